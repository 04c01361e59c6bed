package finding

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"airdrift/core/drift"
	"airdrift/core/evidence"
	"airdrift/core/firmware"
	"airdrift/core/identify"
	"airdrift/core/ledger"
)

// DriftRule is the rule by which register and observation differ.
const DriftRule = "drift"

// NewService is the rule that remarks a service for as long as it stands that was new once.
const NewService = "new-service"

// registerRules are about what is managed, and how it is kept.
var registerRules = []Rule{
	{
		ID: "unmanaged", Severity: Medium, Source: "the register",
		alone: func(c *caseOf) {
			if c.Device.Standing == ledger.Unmanaged {
				c.remark("", nil, "since", c.Device.FirstSeen.UTC().Format(time.DateOnly))
			}
		},
	},
	{
		ID: "missing", Severity: Medium, Source: "the register", unseen: true,
		alone: func(c *caseOf) {
			if c.Device.Standing == ledger.Missing && c.Device.Presence == ledger.Silent {
				c.remark("", nil, "seen", lastSeen(c.Device.LastSeen))
			}
		},
	},
	{
		ID: DriftRule, Severity: Low, Source: "the register",
		alone: func(c *caseOf) {
			for _, line := range drift.Of(c.Device) {
				c.remark(line.Attribute, nil, "attribute", line.Attribute, "expected", line.Expected, "observed", line.Observed)
			}
		},
	},
	{
		ID: NewService, Severity: Medium, Source: "what differs from the visit before",
		alone: newService,
	},
	{
		ID: "stopped-answering", Severity: Medium, Source: "what devices did while they were asked", facts: []string{evidence.KeyTCPStopped, evidence.KeyLost},
		alone: func(c *caseOf) {
			for _, key := range []string{evidence.KeyLost, evidence.KeyTCPStopped} {
				for it := range c.each(key) {
					c.remark("", []string{fact(it)}, "question", it.Value)
					return
				}
			}
		},
	},
	{
		ID: "slow", Severity: Low, Source: "response times of like devices",
		Params: []Param{
			{Name: "milliseconds", Kind: Number, Default: "1000", Min: 1, Max: 60000, Text: "median above which a device is slow whatever others of its model take, in milliseconds"},
			{Name: "times", Kind: Number, Default: "4", Min: 1.5, Max: 1000, Text: "how many times the median of its model makes a device slow"},
			{Name: "least", Kind: Number, Default: "50", Min: 0, Max: 60000, Text: "median up to which no device is slow, in milliseconds"},
			{Name: "answers", Kind: Number, Default: "3", Min: 1, Max: 512, Text: "how many answers there must be"},
		},
		alone: slowByItself, marks: timesOfModel, together: slowBesideOthers,
	},
	{
		ID: "firmware-behind", Severity: Low, Source: "firmware of like devices", marks: firmwareOfModel, alone: firmwareUnwanted, together: firmwareBehind,
	},
	{
		ID: "end-of-support", Severity: High, Source: "the site's list",
		alone: endOfSupport,
	},
}

func lastSeen(at time.Time) string {
	if at.IsZero() {
		return "never"
	}
	return at.UTC().Format(time.DateOnly)
}

// newService goes on remarking a service that is new for as long as it is offered.
func newService(c *caseOf) {
	for _, port := range c.Device.Open {
		name := port.String()
		if slices.Contains(c.Opened, name) || slices.Contains(c.Standing, name) {
			c.remark(name, nil, "port", name)
		}
	}
}

// modelOf gives maker and model as one group; "" where the model is not known.
func modelOf(c *caseOf) string {
	model := c.believed(identify.Model)
	if model == "" {
		return ""
	}
	return strings.TrimSpace(c.believed(identify.Vendor) + "\t" + model)
}

func (c *caseOf) answeredOften(t evidence.Times) bool {
	return float64(t.Answers) >= c.number("answers")
}

func slowByItself(c *caseOf) {
	bound := time.Duration(c.number("milliseconds") * float64(time.Millisecond))
	for _, t := range c.Times {
		if c.answeredOften(t) && t.Median > bound {
			c.remark(t.Protocol, []string{t.String()}, "protocol", t.Protocol, "median", milliseconds(t.Median), "than", milliseconds(bound))
		}
	}
}

func timesOfModel(c *caseOf) {
	model := modelOf(c)
	bound := time.Duration(c.number("milliseconds") * float64(time.Millisecond))
	for _, t := range c.Times {
		if model != "" && c.answeredOften(t) && t.Median <= bound {
			c.mark(t.Protocol+"\t"+model, t.Median.String())
		}
	}
}

// fewLike is from how many devices on a model's median says anything.
const fewLike = 4

func slowBesideOthers(r *ruling, group string, members []Member) {
	protocol, _, _ := strings.Cut(group, "\t")
	medians := make([]time.Duration, len(members))
	for i, m := range members {
		medians[i], _ = time.ParseDuration(m.Value)
	}
	if len(members) < fewLike {
		return
	}
	sorted := slices.Sorted(slices.Values(medians))
	usual := sorted[(len(sorted)-1)/2]
	bound := max(time.Duration(r.number("times")*float64(usual)), time.Duration(r.number("least")*float64(time.Millisecond)))
	for i, m := range members {
		if medians[i] > bound {
			r.of([]uint64{m.Device}, true, protocol, nil, "protocol", protocol, "median", milliseconds(medians[i]), "than", milliseconds(usual))
		}
	}
}

func milliseconds(d time.Duration) string {
	return fmt.Sprintf("%d ms", d.Round(time.Millisecond).Milliseconds())
}

// firmwareWanted gives the version that the site wants of the device's model.
func firmwareWanted(c *caseOf) string {
	if c.judge.site.Wanted == nil {
		return ""
	}
	return c.judge.site.Wanted(c.believed(identify.Vendor), c.believed(identify.Model))
}

func firmwareUnwanted(c *caseOf) {
	has, wanted := c.believed(identify.Firmware), firmwareWanted(c)
	if has != "" && wanted != "" && firmware.Compare(has, wanted) < 0 {
		c.remark("", nil, "has", has, "newest", wanted, "by", "what the site wants")
	}
}

func firmwareOfModel(c *caseOf) {
	if has := c.believed(identify.Firmware); has != "" && firmwareWanted(c) == "" {
		c.mark(modelOf(c), has)
	}
}

func firmwareBehind(r *ruling, _ string, members []Member) {
	newest := members[0].Value
	for _, m := range members {
		if firmware.Compare(m.Value, newest) > 0 {
			newest = m.Value
		}
	}
	for _, m := range members {
		if firmware.Compare(m.Value, newest) < 0 {
			r.of([]uint64{m.Device}, true, "", nil, "has", m.Value, "newest", newest, "by", "the newest seen on its model")
		}
	}
}

func endOfSupport(c *caseOf) {
	for _, end := range c.judge.ends.of(c.believed(identify.Vendor), c.believed(identify.Model), c.believed(identify.OS)) {
		if end.Date.After(c.now()) {
			c.due(end.Date)
			continue
		}
		c.remark(end.what, nil, "what", end.what, "date", end.Date.Format(time.DateOnly), "source", end.Source)
	}
}
