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
	reasons, below := []Reason{}, []Reason(nil)
	for {
		slices.SortStableFunc(at.branches, func(a, b *branch) int { return cmp.Compare(sumOf(b.all()), sumOf(a.all())) })
		if len(at.branches) == 0 || sumOf(at.branches[0].all()) < needed {
			break
		}
		if len(at.branches) > 1 {
			first, second := at.branches[0], at.branches[1]
			if sumOf(second.all()) >= needed {
				claim.Conflict = conflict(OS, []Candidate{first.candidate(), second.candidate()})
			}
			if sumOf(first.all())-sumOf(second.all()) < margin {
				break
			}
		}
		at = at.branches[0]
		reasons, below = append(reasons, at.reasons...), at.all()
	}
	if at.system != "" {
		claim.Value, claim.Strength = at.system, sumOf(append(reasons, below...))
	}
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
