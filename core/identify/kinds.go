package identify

import (
	"cmp"
	"slices"
)

// expects says of a kind what it does or holds besides, so that facts of another kind are no word against it: a label printer prints, an intercom has a
// camera, a panel has a controller in it, a display plays media. Between the two nothing but what speaks for the special one decides.
var expects = map[string][]string{
	"label-printer": {"printer"}, "till": {"workstation", "printer", "label-printer", "display"},
	"tablet": {"mobile"}, "laptop": {"workstation"}, "server": {"workstation"}, "virtual-machine": {"server", "workstation"},
	"hypervisor": {"server", "workstation", "virtual-machine"}, "storage": {"server", "virtual-machine"}, "time-server": {"server", "virtual-machine"},
	"pbx":      {"server", "phone", "voice-gateway", "virtual-machine"},
	"intercom": {"camera", "phone", "access-controller"}, "video-recorder": {"camera", "storage", "server", "virtual-machine"}, "voice-gateway": {"phone", "pbx", "gateway"},
	"paging-speaker": {"phone", "media-player", "voice-gateway"}, "display": {"media-player", "workstation"}, "stage-node": {"lighting-controller", "media-player"},
	"hmi": {"plc", "plant-controller", "workstation"}, "drive": {"plc", "plant-controller"}, "meter": {"plc", "plant-controller", "sensor", "gateway"}, "sensor": {"plc"},
	"thermostat": {"plant-controller", "sensor"}, "lighting-controller": {"plant-controller", "gateway"}, "irrigation-controller": {"plant-controller", "plc"},
	"plant-controller": {"plc"}, "access-controller": {"plant-controller"}, "ups": {"pdu", "server"}, "pdu": {"ups", "meter", "sensor"}, "serial-server": {"gateway"},
	"gateway": {"plc", "plant-controller"}, "access-point": {"router", "switch"}, "firewall": {"router", "switch", "virtual-machine"}, "router": {"virtual-machine"}, "modem": {"router"},
	"lab-instrument": {"workstation"}, "smart-plug": {"sensor", "meter"},
}

// includes says which kinds are special cases of another: what speaks for them speaks for that, too, and where it cannot be told which it is, that is believed.
var includes = map[string][]string{"printer": {"label-printer"}, "mobile": {"tablet"}, "workstation": {"laptop"}}

// IsPartOf reports whether a device of one kind does, or is, what another is called by besides, or a system is built on another, so that facts of that are no
// word against it.
func IsPartOf(kind, besides string) bool {
	return slices.Contains(expects[kind], besides) || slices.Contains(includes[kind], besides) || baseOf(kind) == besides
}

// perhaps is how much has to speak for a special case that is not believed for it to be named beside the general one.
const perhaps = 3

// standing is what speaks for one kind among others.
type standing struct {
	*Candidate
	own   int // for it itself, and for its special cases
	total int // with what it does besides
}

// believeKind believes the kind for which enough speaks, and which leads all others that are no part of it clearly.
func believeKind(claim *Claim) {
	all := standings(claim.Others)
	best := -1
	for i, a := range all {
		if a.mayBe() && !slices.ContainsFunc(all, func(b standing) bool { return b.Value != a.Value && !a.leads(b) }) {
			best = i
			break
		}
	}
	claim.Conflict = kindConflict(all, best)
	if best < 0 {
		return
	}
	believed := all[best]
	claim.Value, claim.Strength = believed.Value, max(believed.own, needed)
	for _, b := range all {
		if slices.Contains(expects[b.Value], believed.Value) && b.beyond(believed) >= perhaps && claim.Perhaps == "" {
			claim.Perhaps = b.Value
		}
	}
	first := *believed.Candidate
	for i := range claim.Others {
		c := &claim.Others[i]
		c.Besides = slices.Contains(expects[first.Value], c.Value)
		if slices.Contains(expects[c.Value], first.Value) {
			c.BuiltOn = first.Value
		}
	}
	claim.Others = slices.DeleteFunc(claim.Others, func(c Candidate) bool { return c.Value == first.Value })
	claim.Others = slices.Insert(claim.Others, 0, first)
}

// standings weighs each kind with those that belong to it, the strongest first.
func standings(candidates []Candidate) []standing {
	reasonsOf := func(kinds []string) (reasons []Reason) {
		for _, c := range candidates {
			if slices.Contains(kinds, c.Value) {
				reasons = append(reasons, c.Reasons...)
			}
		}
		return reasons
	}
	all := make([]standing, len(candidates))
	for i := range candidates {
		c := &candidates[i]
		own := c.Reasons
		if special := reasonsOf(includes[c.Value]); len(special) > 0 {
			own = slices.Concat(c.Reasons, special)
		}
		s := standing{Candidate: c, own: sumOf(own)}
		s.total = s.own
		if besides := reasonsOf(expects[c.Value]); len(besides) > 0 {
			s.total = sumOf(slices.Concat(own, besides))
		}
		all[i] = s
	}
	slices.SortStableFunc(all, func(a, b standing) int { return cmp.Compare(b.total, a.total) })
	return all
}

// leads reports whether one kind may be believed beside another.
func (a standing) leads(b standing) bool {
	switch {
	case slices.Contains(expects[a.Value], b.Value):
		return a.overrules(b)
	case slices.Contains(includes[a.Value], b.Value):
		return !b.overrules(a)
	case slices.Contains(expects[b.Value], a.Value):
		return b.beyond(a) < perhaps || !b.overrules(a) && a.own-b.own >= margin
	}
	return a.total-b.total >= margin
}

// overrules reports whether enough speaks for a kind beyond what speaks for one that it expects.
func (a standing) overrules(expected standing) bool {
	return a.own >= needed && a.own-expected.own >= margin || a.beyond(expected) >= needed || a.beyond(expected) >= chosen && a.own >= expected.own
}

// A protocol speaks for a family of kinds, and what chooses among them may be weaker than what it takes to believe a kind alone: chosen is how much has to
// speak for the special one, and together how much for the family.
const (
	chosen   = 5
	together = 9
)

// mayBe reports whether enough speaks for a kind for it to be believed if nothing else does.
func (a standing) mayBe() bool {
	return a.own >= needed || a.own >= chosen && a.total >= together
}

// beyond gives what speaks for a kind and not as well for another. What one fact says of both says nothing of which it is, but for what it says more.
func (a standing) beyond(other standing) int {
	beyond := make([]Reason, 0, len(a.Reasons))
	for _, r := range a.Reasons {
		for _, of := range other.Reasons {
			if of.Rule == r.Rule && of.Item.Key == r.Item.Key && of.Item.Value == r.Item.Value {
				r.Strength -= of.Strength
			}
		}
		if r.Strength > 0 {
			beyond = append(beyond, r)
		}
	}
	return sumOf(beyond)
}

// kindConflict says in words what contradicts the kind that is believed, or keeps the strongest from being believed.
func kindConflict(all []standing, believed int) string {
	first := max(believed, 0)
	if len(all) == 0 || all[first].own < needed {
		return ""
	}
	for i, b := range all {
		if i == first || b.own < needed || slices.Contains(expects[all[first].Value], b.Value) || slices.Contains(expects[b.Value], all[first].Value) {
			continue
		}
		return conflict(Kind, []Candidate{*all[first].Candidate, *b.Candidate})
	}
	return ""
}
