package finding

import (
	"fmt"
	"regexp"
	"slices"

	"airdrift/core/identify"
	"airdrift/core/ledger"
	"airdrift/core/yamlfile"
)

// OwnRule is a rule that a site has written. docs/findings.md documents the file.
type OwnRule struct {
	ID       string               `yaml:"rule"`
	Severity string               `yaml:"severity"`
	Title    string               `yaml:"title"`
	Because  string               `yaml:"because"`
	Do       string               `yaml:"do"`
	Source   string               `yaml:"source"`
	Devices  OwnDevices           `yaml:"devices"`
	When     []identify.Condition `yaml:"when"`
	Unless   []identify.Condition `yaml:"unless"`

	severity Severity
}

// OwnDevices says of which devices a rule is; what is left out is any.
type OwnDevices struct {
	Kind     []string `yaml:"kind"`
	Vendor   []string `yaml:"vendor"`
	Model    []string `yaml:"model"`
	Standing []string `yaml:"standing"`
	Network  []string `yaml:"network"`
	Group    []string `yaml:"group"`
}

// maxOwnRules is how many rules one file may have.
const maxOwnRules = 500

// ruleForm is how rules are called.
var ruleForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

// ReadRules reads and checks one file of a site's own rules. Where it fails the error is a *fault.List with lines and columns.
func ReadRules(name string, data []byte) ([]OwnRule, error) {
	var file struct {
		Rules []OwnRule `yaml:"rules"`
	}
	doc, err := yamlfile.Read(name, data, &file)
	if err != nil {
		return nil, err
	}
	if len(file.Rules) > maxOwnRules {
		doc.Refuse("$.rules", "%d rules: one file has at most %d", len(file.Rules), maxOwnRules)
		return nil, doc.Faults.Err()
	}
	named := map[string]bool{}
	for _, r := range rules {
		named[r.ID] = true
	}
	for i := range file.Rules {
		path := fmt.Sprintf("$.rules[%d]", i)
		r := &file.Rules[i]
		r.check(doc, path)
		if named[r.ID] {
			doc.Refuse(path+".rule", "there is a rule %q already", r.ID)
		}
		named[r.ID] = true
	}
	return file.Rules, doc.Faults.Err()
}

func (r *OwnRule) check(doc *yamlfile.Document, path string) {
	if !ruleForm.MatchString(r.ID) {
		doc.Refuse(path+".rule", "%q: a rule is called by lower-case letters, digits and hyphens, at most 63", r.ID)
	}
	for _, needed := range []struct{ field, value string }{{"title", r.Title}, {"because", r.Because}, {"do", r.Do}} {
		if needed.value == "" {
			doc.Refuse(path+"."+needed.field, "a rule needs %s", needed.field)
		}
		if len(needed.value) > 1000 {
			doc.Refuse(path+"."+needed.field, "%d bytes: at most 1000 are taken", len(needed.value))
		}
	}
	severity, err := ParseSeverity(r.Severity)
	if err != nil {
		doc.Refuse(path+".severity", "%v", err)
	}
	r.severity = severity
	if len(r.When) == 0 && r.Devices.any() {
		doc.Refuse(path+".when", "a rule needs at least one condition, of facts (when) or devices")
	}
	for i, kind := range r.Devices.Kind {
		if !slices.Contains(identify.Kinds, kind) {
			doc.Refuse(fmt.Sprintf("%s.devices.kind[%d]", path, i), "%q is no kind of device", kind)
		}
	}
	standings := []ledger.Standing{ledger.Managed, ledger.Unmanaged, ledger.Missing}
	for i, standing := range r.Devices.Standing {
		if !slices.Contains(standings, ledger.Standing(standing)) {
			doc.Refuse(fmt.Sprintf("%s.devices.standing[%d]", path, i), "%q: want one of %v", standing, standings)
		}
	}
	identify.CheckConditions(doc, path+".when", r.When)
	identify.CheckConditions(doc, path+".unless", r.Unless)
}

func (d OwnDevices) any() bool {
	return len(d.Kind)+len(d.Vendor)+len(d.Model)+len(d.Standing)+len(d.Network)+len(d.Group) == 0
}

// ownRules makes rules of those that sites have written.
func ownRules(own []OwnRule) []Rule {
	list := make([]Rule, len(own))
	for i, r := range own {
		list[i] = Rule{ID: r.ID, Severity: r.severity, Source: r.Source, alone: func(c *caseOf) {
			if r.Devices.means(c) && identify.Holds(r.When, r.Unless, c.Items) {
				c.remark("", r.proof(c))
			}
		}}
	}
	return list
}

// proof gives the facts that the rule asks for.
func (r *OwnRule) proof(c *caseOf) (proof []string) {
	for _, it := range c.Items {
		if slices.ContainsFunc(r.When, func(w identify.Condition) bool { return slices.Contains(w.Keys, it.Key) }) {
			proof = append(proof, fact(it))
		}
	}
	return proof
}

func (d OwnDevices) means(c *caseOf) bool {
	is := func(wanted []string, has string) bool { return len(wanted) == 0 || slices.Contains(wanted, has) }
	network := ""
	if n := c.at(); n != nil {
		network = n.Name
	}
	return is(d.Kind, c.believed(identify.Kind)) && is(d.Vendor, c.believed(identify.Vendor)) && is(d.Model, c.believed(identify.Model)) &&
		is(d.Standing, string(c.Device.Standing)) && is(d.Network, network) && is(d.Group, c.Device.Group)
}
