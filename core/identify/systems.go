package identify

import (
	"cmp"
	"slices"
	"strings"
)

// builtOn names for systems those that they are built on, so that word of the one is no word against the other: a host
// with a Debian kernel and the pages of Proxmox VE is both. Any other system that calls itself a Linux is one.
var builtOn = map[string]string{
	"Proxmox VE": "Debian GNU/Linux", "Raspbian GNU/Linux": "Debian GNU/Linux", "EdgeOS": "Debian GNU/Linux", "TrueNAS SCALE": "Debian GNU/Linux",
	"OpenWrt": linux, "DD-WRT": linux, "Synology DSM": linux, "Arista EOS": linux, "RouterOS": linux, "Cumulus Linux": "Debian GNU/Linux",
	"Cisco NX-OS": linux, "ArubaOS-CX": linux, "Junos": "FreeBSD", "TrueNAS": "FreeBSD", "ONTAP": "FreeBSD", "Cisco IOS XE": linux, "Tizen": linux, "webOS": linux,
	"Android": linux,
}

const (
	linux   = "Linux"
	windows = "Microsoft Windows"
)

// baseOf gives the system that another is built on, or "".
func baseOf(system string) string {
	switch base, known := builtOn[system]; {
	case known:
		return base
	case strings.HasPrefix(system, windows+" "):
		return windows
	case system != linux && strings.Contains(" "+strings.NewReplacer("/", " ", "(", " ", ")", " ").Replace(system)+" ", " "+linux+" "):
		return linux
	}
	return ""
}

// branch is a system with those that are built on it.
type branch struct {
	system   string
	reasons  []Reason // for the system itself
	branches []*branch
}

// all gives the reasons for the system and for all that are built on it: each is word for it, too.
func (b *branch) all() []Reason {
	reasons := slices.Clone(b.reasons)
	for _, child := range b.branches {
		reasons = append(reasons, child.all()...)
	}
	return reasons
}

// grow makes the tree of all systems that something speaks for; its root has no name.
func grow(candidates []Candidate) *branch {
	root := &branch{}
	known := map[string]*branch{"": root}
	var at func(system string) *branch
	at = func(system string) *branch {
		if known[system] == nil {
			b, under := &branch{system: system}, at(baseOf(system))
			under.branches = append(under.branches, b)
			known[system] = b
		}
		return known[system]
	}
	for _, c := range candidates {
		at(c.Value).reasons = c.Reasons
	}
	return root
}

// believeSystem follows the tree of systems as far as one branch leads its neighbours clearly. What speaks for a system speaks for
// that on which it is built, and where several are in doubt that one is believed.
func believeSystem(claim *Claim) {
	at := grow(claim.Others)
	var way []*branch
	for {
		next, conflict := at.leading()
		if conflict != "" {
			claim.Conflict = conflict
		}
		if next == nil {
			break
		}
		way, at = append(way, next), next
	}
	if len(way) == 0 {
		return
	}
	believed := Candidate{Value: at.system, Reasons: at.all()}
	for _, b := range way[:len(way)-1] {
		believed.Reasons = append(believed.Reasons, b.reasons...)
	}
	believed.sum()
	claim.Value, claim.Strength = believed.Value, believed.Strength
	others := []Candidate{believed}
	for _, c := range claim.Others {
		if slices.ContainsFunc(way, func(b *branch) bool { return b.system == c.Value }) {
			continue // it is part of what is believed
		}
		if isBuiltOn(c.Value, at.system) {
			c.BuiltOn = at.system
		}
		others = append(others, c)
	}
	claim.Others = others
}

// leading gives the branch that leads its neighbours clearly, or nil, and says in words what contradicts it.
func (b *branch) leading() (first *branch, against string) {
	slices.SortStableFunc(b.branches, func(a, b *branch) int { return cmp.Compare(sumOf(b.all()), sumOf(a.all())) })
	if len(b.branches) == 0 || sumOf(b.branches[0].all()) < needed {
		return nil, ""
	}
	first = b.branches[0]
	if len(b.branches) == 1 {
		return first, ""
	}
	against = conflict(OS, []Candidate{first.candidate(), b.branches[1].candidate()})
	if sumOf(first.all())-sumOf(b.branches[1].all()) < margin {
		return nil, against
	}
	return first, against
}

// SameSystem reports whether two names can be of one system: they are the same, or one is built on the other.
func SameSystem(a, b string) bool { return a == b || isBuiltOn(a, b) || isBuiltOn(b, a) }

// isBuiltOn reports whether a system is built on another, by whatever steps.
func isBuiltOn(system, base string) bool {
	for system = baseOf(system); system != ""; system = baseOf(system) {
		if system == base {
			return true
		}
	}
	return false
}

// candidate gives a branch by the name of what speaks for it most.
func (b *branch) candidate() Candidate {
	c := Candidate{Value: b.system, Reasons: b.all()}
	if len(b.reasons) == 0 && len(b.branches) > 0 {
		c.Value = b.branches[0].system
	}
	c.sum()
	return c
}

// sumOf adds the strongest reason of each source, so that one banner seen twice is not two witnesses.
func sumOf(reasons []Reason) int {
	total := 0
	for i, r := range reasons {
		most := true
		for j, other := range reasons {
			if other.Item.Source == r.Item.Source && (other.Strength > r.Strength || other.Strength == r.Strength && j < i) {
				most = false
				break
			}
		}
		if most {
			total += r.Strength
		}
	}
	return total
}
