package api

import "time"

// RuleFile is a file of rules that a site has added.
type RuleFile struct {
	ID        uint64    `json:"id"`
	Purpose   string    `json:"purpose" enum:"identify,judge" doc:"What its rules are for: to tell what devices are, or what is wrong"`
	Name      string    `json:"name"`
	Text      string    `json:"text"`
	Rules     int       `json:"rules"`
	Active    bool      `json:"active"`
	Tag       string    `json:"tag" doc:"Its ETag: given as If-Match, it is changed only if it is still so"`
	ChangedBy string    `json:"changedBy"`
	ChangedAt time.Time `json:"changedAt"`
}

// NewRuleFile is a file of rules to be tried or added.
type NewRuleFile struct {
	Name string `json:"name" minLength:"1" maxLength:"100"`
	Text string `json:"text" minLength:"1" maxLength:"1000000" doc:"YAML; docs/rules.md and docs/findings.md have the formats"`

	Purpose string `json:"purpose,omitempty" enum:"identify,judge" default:"identify" doc:"What its rules are for: to tell what devices are, or what is wrong"`
}

// RuleTrial is what rules would change of what is believed.
type RuleTrial struct {
	Rules   int          `json:"rules"`
	Devices int          `json:"devices" doc:"How many devices would be believed to be something else"`
	Changes []RuleChange `json:"changes" nullable:"false" doc:"The first of them"`

	Findings []RuleFinding `json:"findings,omitempty" doc:"Of rules that judge: what they would remark, the first of it"`
}

// RuleFinding is one thing that a rule would remark.
type RuleFinding struct {
	Device   uint64 `json:"device"`
	Name     string `json:"name"`
	Rule     string `json:"rule"`
	Severity string `json:"severity"`
}

// RuleChange is one claim that rules would change.
type RuleChange struct {
	Device    uint64 `json:"device"`
	Name      string `json:"name"`
	Attribute string `json:"attribute"`
	Before    string `json:"before"`
	After     string `json:"after"`
}

// Activity switches something on or off.
type Activity struct {
	Active bool `json:"active"`
}
