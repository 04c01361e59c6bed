package ledger

import (
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/identify"
	"airdrift/core/register"
)

// Standing is a device against the register.
type Standing string

// The standings there are.
const (
	Managed   Standing = "managed"
	Unmanaged Standing = "unmanaged"
	Missing   Standing = "missing"   // in the register, never seen or no longer there
	SetAside  Standing = "set aside" // known and left out, with a reason
)

// Standings are all standings there are.
var Standings = []Standing{Managed, Unmanaged, Missing, SetAside}

// Trait is something about how a device appears on the network that an auditor must know of before believing the rest.
type Trait string

// The traits there are.
const (
	OwnMachine        Trait = "own machine"        // the sweep was made from it
	AnswersForOthers  Trait = "answers for others" // one MAC, many addresses: ARP on behalf of others, or a firewall
	AcceptsEverything Trait = "accepts every port" // an open port of it proves nothing
	VirtualRouter     Trait = "virtual router"     // an address that several routers take turns at
	WrongSubnet       Trait = "wrong subnet"       // an address from another subnet than the segment's
)

// Traits are all traits there are.
var Traits = []Trait{OwnMachine, AnswersForOthers, AcceptsEverything, VirtualRouter, WrongSubnet}

// Aside says who has set a device aside, and why.
type Aside struct {
	Reason string
	By     string
	At     time.Time
}

// Presence is a device against the last sweep that covered it.
type Presence string

// The presences there are.
const (
	Seen      Presence = "seen"
	Silent    Presence = "silent"    // covered, and it did not answer
	Uncovered Presence = "uncovered" // no sweep has looked where it should be
)

// Presences are all presences there are.
var Presences = []Presence{Seen, Silent, Uncovered}

// Device is one device, recognised across sweeps and addresses.
type Device struct {
	ID       uint64           // 0 until it is stored
	MACs     []hwaddr.MAC     // all it has had, the one seen last first
	Former   []hwaddr.MAC     // of them those that it has no more
	KeepsMAC bool             // it was known again by a private MAC address, so that it does not change it at each visit
	Views    []View           // from where it was seen, at most maxViews
	Holds    []Tenure         // what it holds, as far as is known, at most maxAddrs from each vantage
	Unit     string           // that it is, and behind which address, where it has none of its own
	Addrs    []netip.Addr     // held when it was seen last, in ascending order, at most maxAddrs
	Keys     []Key            // what recognises it besides MAC and name
	Identity identify.Beliefs // what is believed of it
	Edition  string           // of the rules by which that is believed
	Facts    evidence.Hash    // of the evidence
	Items    []evidence.Item  // the evidence itself: of the last sweep that saw it, and what that left as it was; nil where it is not loaded
	Told     []hwaddr.MAC     // among its facts, the MAC addresses that are told of it
	Self     string           // likewise, the name of the auditor's own machine; "" of any other
	Open     []evidence.Port  // likewise, the ports that it offers
	Silent   []evidence.Port  // likewise, ports of which it is not known whether it offers them

	FirstSeen time.Time // zero for one known from the register alone
	LastSeen  time.Time
	LastSweep uint64 // the sweep that saw it last
	Presence  Presence
	Missed    int // by how many sweeps in a row it was missed that is still waited for
	Standing  Standing
	Entry     *register.Entry // what the register says of it; nil where it does not
	MatchedBy string          // why Entry is taken to mean this device
	Linked    bool            // somebody has said that it does
	Reasons   []string        // why the sightings of the last sweep are taken to be one device, and this one
	Contested []netip.Addr    // addresses that another device holds as well
	Traits    []Trait
	Segment   netip.Prefix // the vantage's own subnet where it was seen with its MAC; invalid where it lies beyond
	Aside     *Aside       // nil where nobody has set it aside
	Note      string       // free text that somebody wrote
	Group     string       // that it belongs to, as somebody has said; "" for none
	Decisions []uint64     // from which Aside, Note and Group come
	Was       []uint64     // the numbers of devices that were merged into it
}

// View is where a device was seen from one vantage last.
type View struct {
	Vantage string // and its network, as a machine is carried from one to another
	Addrs   []netip.Addr
	Seen    time.Time // when the sweep began that saw it
	Sweep   uint64
	Asked   uint64 // the last sweep from there that asked it all it was to ask; 0 for none
}

// Settled gives the first of the addresses at which it is looked for the device; invalid where there is none.
func (v View) Settled() netip.Addr {
	if addrs := settled(v.Addrs); len(addrs) > 0 {
		return addrs[0]
	}
	return netip.Addr{}
}

// Segment gives the local segment of the vantage; invalid where it is not known.
func (v View) Segment() netip.Prefix {
	segment, _ := netip.ParsePrefix(v.Vantage[strings.LastIndex(v.Vantage, " ")+1:])
	return segment
}

// Tenure is a time in which a device held an address, with a MAC address, as seen from one vantage.
type Tenure struct {
	Addr    netip.Addr // invalid of a device without one
	MAC     hwaddr.MAC // zero beyond a router
	Unit    string     // behind the address, where the device has none of its own
	Vantage string     // as in View

	Since, Until           time.Time // when the sweeps began that met it so first and last; Until is zero where that is the device's view
	SinceSweep, UntilSweep uint64
}

// PresentMACs gives the MACs that a device has now, as far as is known.
func (d Device) PresentMACs() []hwaddr.MAC {
	if len(d.Former) == 0 {
		return d.MACs
	}
	return slices.DeleteFunc(slices.Clone(d.MACs), func(m hwaddr.MAC) bool { return slices.Contains(d.Former, m) })
}

// view gives where the device was seen from a vantage; ok is false where it never was. Devices stored before vantages were told apart
// were seen from any.
func (d Device) view(vantage string) (addrs []netip.Addr, ok bool) {
	if len(d.Views) == 0 {
		return d.Addrs, true
	}
	for _, v := range d.Views {
		if v.Vantage == vantage {
			return v.Addrs, true
		}
	}
	return nil, false
}

// Key is something a device says that hardly another one says too.
type Key struct {
	Key   string `json:"key"` // of the fact: ssh.hostkey, tls.key, snmp.engine; or serial
	Value string `json:"value"`
}

// keyFacts gives the facts that recognise a device by a pair of keys of its own.
var keyFacts = sync.OnceValue(func() []string { return evidence.KeysFor(evidence.PublicKey) })

// seenOnly leaves out devices that stand for entries of the register; Match makes them anew.
func seenOnly(known []Device) []Device {
	devices := make([]Device, 0, len(known))
	for _, d := range known {
		if !d.FirstSeen.IsZero() {
			devices = append(devices, d)
		}
	}
	return devices
}

const (
	// maxAddrs is how many addresses of a device are kept. One that has more answers for others, and its sightings tell which.
	maxAddrs = 1024
	// maxMACs is how many MACs of a device are kept: one that makes itself new ones leaves the oldest behind.
	maxMACs = 64
	// maxReasons is how many reasons are kept why sightings are one device.
	maxReasons = 32
)

func newestFirst(now, before []hwaddr.MAC) []hwaddr.MAC {
	all := slices.Clone(now[:min(len(now), maxMACs)])
	for _, m := range before {
		if len(all) < maxMACs && !slices.Contains(all, m) {
			all = append(all, m)
		}
	}
	return all
}
