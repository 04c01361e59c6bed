package api

import "time"

// DriftLine is one attribute in which the register and what was observed of a device differ.
type DriftLine struct {
	Device    uint64 `json:"device"`
	Name      string `json:"name,omitempty"`
	Addr      string `json:"addr,omitempty"`
	Entry     uint64 `json:"entry" doc:"Of the register"`
	Attribute string `json:"attribute"`
	Expected  string `json:"expected" doc:"By the register"`
	Observed  string `json:"observed"`
	Strength  int    `json:"strength" doc:"Of the observation, in decibans: 20 are odds of 100 to 1"`
	Certain   bool   `json:"certain" doc:"It was seen on the network itself, which is no matter of belief: an address or a MAC address"`
	Finding   uint64 `json:"finding,omitempty" doc:"The finding that carries the difference; none where the site has switched the rule off"`
	State     string `json:"state,omitempty" enum:"open,accepted,closed" doc:"Of the finding"`
	Confirmed bool   `json:"confirmed" doc:"Somebody has said that the register is right"`
}

// NewAct is something to be done to many devices or findings at once.
type NewAct struct {
	Kind       string     `json:"kind" enum:"set-aside,note,group,register,take,keep-register,accept,confirm" doc:"take: the observation takes the place of what the register says. keep-register: the register is right, and the difference is a finding that is confirmed"`
	Filter     string     `json:"filter,omitempty" maxLength:"4000" doc:"Which devices are meant, as the query of the list of devices; for accept and confirm which findings, as that of the list of findings"`
	Devices    []uint64   `json:"devices,omitempty" maxItems:"5000" doc:"In the place of a filter"`
	Findings   []uint64   `json:"findings,omitempty" maxItems:"5000" doc:"In the place of a filter"`
	Attributes []string   `json:"attributes,omitempty" doc:"In which they differ, for take and keep-register; all where left out"`
	Lines      []ActLine  `json:"lines,omitempty" maxItems:"5000" doc:"Lines of drift, in the place of devices and attributes"`
	Text       string     `json:"text,omitempty" maxLength:"10000" doc:"The reason, the note or the name of the group"`
	Until      *time.Time `json:"until,omitempty" doc:"Until when findings are accepted"`
	Preview    bool       `json:"preview,omitempty" doc:"Only say what would come of it"`
	Tag        string     `json:"tag,omitempty" maxLength:"64" doc:"That of a preview: it is refused where something else would come of it now"`
}

// ActLine is one line of drift.
type ActLine struct {
	Device    uint64 `json:"device"`
	Attribute string `json:"attribute"`
}

// Act is what was, or would be, done to many devices at once.
type Act struct {
	ID       uint64     `json:"id,omitempty" doc:"Left out of a preview"`
	Kind     string     `json:"kind"`
	Text     string     `json:"text,omitempty"`
	By       string     `json:"by"`
	At       *time.Time `json:"at,omitempty"`
	Count    int        `json:"count" doc:"How many steps it has"`
	Steps    []ActStep  `json:"steps" nullable:"false" doc:"At most 200 of them"`
	LeftOut  int        `json:"leftOut" doc:"How many devices or findings it leaves as they are"`
	Left     []ActStep  `json:"left" nullable:"false" doc:"At most 200 of them; becomes says why"`
	Tag      string     `json:"tag,omitempty" doc:"Of a preview, for carrying it out"`
	UndoneBy string     `json:"undoneBy,omitempty"`
	UndoneAt *time.Time `json:"undoneAt,omitempty"`
}

// ActStep is what an act does to one device or finding.
type ActStep struct {
	Device  uint64 `json:"device,omitempty"`
	Finding uint64 `json:"finding,omitempty"`
	Name    string `json:"name"`
	Field   string `json:"field"`
	Was     string `json:"was,omitempty"`
	Becomes string `json:"becomes,omitempty"`
}

// Undone says what came of undoing an act.
type Undone struct {
	Back int `json:"back" doc:"How many steps were taken back"`
	Left int `json:"left" doc:"How many were left, as somebody has changed them since"`
}
