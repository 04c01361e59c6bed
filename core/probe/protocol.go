package probe

import (
	"context"
	"fmt"
	"maps"
	"net"
	"net/netip"
	"slices"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/wire"
)

// Cost is how much a protocol asks of a device.
type Cost int

// The costs there are. A pace says which it lets a sweep ask of devices.
const (
	Light     Cost = iota + 1 // a packet or a connection, and little to reckon
	Middling                  // several packets, or a handshake with keys
	Demanding                 // several connections, many packets, or more than the smallest controllers bear
)

// Protocol is one way to learn of devices, as one value in one file: what is asked and where, what is heard, what it costs the
// device, and which facts come of it. The engine walks the registered protocols and knows none of them by name.
type Protocol struct {
	Name   string // by which orders switch it off, and pages name it
	Source evidence.Source
	Cost   Cost
	Facts  []evidence.Fact // that it gives; their source is the protocol's where they name none
	Parts  []string        // what of it can be switched off by itself, in the form of Name

	// By connection.

	Ports    []uint16 // TCP ports at which it is spoken
	Usual    []uint16 // those of them at which hardly anything else is met, so that they are asked even of those that accept everything
	Telling  []uint16 // ports for the set of those that tell most
	RollCall []uint16 // ports that the roll call probes at addresses that do not answer otherwise
	AnyPort  bool     // it is spoken at all ports for which there is no other protocol
	Talk     Talker   // leads the exchange; nil where nothing is sent at its ports
	// When tells from what is known of a device whether it may be spoken to at all; it is then asked after all others.
	When func(known []evidence.Item) bool

	// Once all have been asked, where it is wanted: how much a system offers.

	// Reads reports whether a device has said that it speaks the protocol, and what it offers has not been counted.
	Reads func(known []evidence.Item) bool
	// Read counts what a system offers, a question at a time, and goes on from where an earlier reading was broken off. It says how far
	// it is by Keep, and gives what was counted once that is all there is.
	Read func(ctx context.Context, q Query, known []evidence.Item, r *Reading) []evidence.Item

	// Where a device can be told to show itself, without changing it.

	Blinks func(known []evidence.Item) bool
	Blink  func(ctx context.Context, q Query, known []evidence.Item) error

	// By a question to each device.

	Port     evidence.Port // that the question goes to
	Ask      func(ctx context.Context, q Query) (items []evidence.Item, answered bool)
	ByOthers bool // others are asked about the device, so that the answer says nothing of whether it is there
	OneHop   bool // its answers keep to a time to live of 1, which says nothing of the system
	// Pointer is the fact that names a page of the device, and Points reads those pages. They are read where the device has named
	// them when it was asked, and not on the word of an announcement.
	Pointer string
	Points  func(ctx context.Context, d Dialer, addr netip.Addr, items []evidence.Item) []evidence.Item

	// By questions to all of a segment, and by what is heard there.

	Groups []Group
	Hear   func(d Datagram) (items []evidence.Item, ok bool)
	// Relates gives the identifier of a message and of the one it answers, where the protocol has such; nil where it has none.
	Relates func(message []byte) (id, to string)
	// HearAbout reads a datagram that tells of a device at another address than it came from.
	HearAbout func(d Datagram) (about About, ok bool)

	// By frames of the segment.

	Frames    []uint16 // Ethernet types that are heard
	Casts     []Cast   // questions to all of the segment, by frame
	HearFrame func(frame []byte) (heard Neighbour, ok bool)
}

// Talker leads one exchange over an accepted connection.
type Talker func(ctx context.Context, conn net.Conn, addr netip.AddrPort, f *found)

// Query is what a question to one device is put with.
type Query struct {
	Dialer Dialer
	Addr   netip.Addr
	Wait   time.Duration // for the first answer

	Servers     []netip.AddrPort // name servers of the site
	Credentials []Credential     // of the site
	Preferred   uint64           // the credential that worked before, by its ID
	Off         func(part string) bool
	// Unit takes in what was learned of a device that stands behind the one that is asked and has no address of its own, such as
	// "modbus/7"; nil where nobody listens.
	Unit func(unit string, items []evidence.Item)
	// Known gives what is known of the device already, such as what was heard of it; nil where nothing can be.
	Known func(ctx context.Context) []evidence.Item
	// Pause waits for the device's turn before each question of a reading; nil where it needs none. Keep takes in how far it has come.
	Pause func(ctx context.Context) error
	Keep  func(r Reading)
	// IsKnown reports whether an identifier is that of a device which has been asked already, and whose own tables give this address.
	IsKnown func(key, value string) bool
}

// Reading is how far the reading of one system has come. Its zero value stands for the beginning.
type Reading struct {
	Unit   string         `json:"unit,omitempty"` // of a system behind another
	Next   int            `json:"next"`           // so many of its parts have been read
	Of     int            `json:"of"`             // so many it has; 0 where that is not known yet
	Counts map[string]int `json:"counts"`         // by their kind
}

func (q Query) pause(ctx context.Context) error {
	if q.Pause == nil {
		return ctx.Err()
	}
	return q.Pause(ctx)
}

func (q Query) keep(r Reading) {
	if q.Keep != nil {
		r.Counts = maps.Clone(r.Counts)
		q.Keep(r)
	}
}

func (q Query) off(part string) bool { return q.Off != nil && q.Off(part) }

func (q Query) known(ctx context.Context) []evidence.Item {
	if q.Known == nil {
		return nil
	}
	return q.Known(ctx)
}

func (q Query) isKnown(key, value string) bool { return q.IsKnown != nil && q.IsKnown(key, value) }

// Group is a place at which all of a segment is asked, and hears what is announced.
type Group struct {
	At        netip.AddrPort // a multicast group, or the limited broadcast address
	Questions func() ([][]byte, error)
	Sparing   bool // asked once in a sweep, as each question burdens every device of its kind; others are repeated for those that lost one
	// Follow gives further questions, once, for what each device has answered to the first ones; nil where there are none.
	Follow func(heard [][]evidence.Item) ([][]byte, error)
}

// Cast is a question that goes by frame to a layer-2 group.
type Cast struct {
	EtherType uint16
	To        hwaddr.MAC
	Message   func() []byte // behind the Ethernet header
}

// Datagram is one that was heard on the segment.
type Datagram struct {
	From    netip.AddrPort
	To      uint16 // port
	MAC     hwaddr.MAC
	Message []byte
}

// About is what a datagram tells of a device at another address.
type About struct {
	Addr  netip.Addr // invalid where it has none yet
	Items []evidence.Item
}

// Neighbour is what a device tells of itself by frames.
type Neighbour struct {
	MAC     hwaddr.MAC // that the frame came from
	Chassis hwaddr.MAC // of the device, where it is told by one; else zero
	Addr    netip.Addr // for its management; invalid where none is told
	Name    string     // that it gives itself, "" where it gives none
	Items   []evidence.Item
}

// The registered protocols, in the order of their files' names, and by their ports.
var (
	protocols []*Protocol
	byPort    = map[uint16]*Protocol{}
	anyPort   *Protocol
)

// register takes a protocol and its facts in. It panics where two claim one name, port or fact: that is a fault of the program.
func register(p Protocol) *Protocol {
	for _, other := range protocols {
		if other.Name == p.Name || other.AnyPort && p.AnyPort {
			panic(fmt.Sprintf("probe: the protocols %q and %q claim the same name, or all ports", p.Name, other.Name))
		}
	}
	if p.Cost == 0 {
		panic(fmt.Sprintf("probe: the protocol %q does not say what it costs", p.Name))
	}
	for i := range p.Facts {
		if p.Facts[i].Source == "" {
			p.Facts[i].Source = p.Source
		}
	}
	for _, port := range p.Ports {
		if byPort[port] != nil {
			panic(fmt.Sprintf("probe: the protocols %q and %q claim port %d", p.Name, byPort[port].Name, port))
		}
		byPort[port] = &p
	}
	if p.AnyPort {
		anyPort = &p
	}
	evidence.Register(p.Facts...)
	protocols = append(protocols, &p)
	return &p
}

// Protocols gives the registered protocols. They are not to be changed.
func Protocols() []*Protocol { return slices.Clone(protocols) }

// Switches gives all names by which protocols, and parts of them, can be switched off, in ascending order.
func Switches() []string {
	var names []string
	for _, p := range protocols {
		names = append(names, p.Name)
		for _, part := range p.Parts {
			names = append(names, p.Name+"."+part)
		}
	}
	slices.Sort(names)
	return names
}

// At gives the protocol that is spoken at a TCP port; nil where nothing is sent there and nothing waited for.
func At(port uint16) *Protocol {
	if p := byPort[port]; p != nil {
		return p
	}
	if slices.Contains(clientFirst, port) {
		return nil
	}
	return anyPort
}

// isUsual reports whether a port is asked for itself, as hardly anything but its protocol is met there.
func isUsual(port uint16) bool {
	p := At(port)
	return p != nil && slices.Contains(p.Usual, port)
}

// Allowance gives what a sweep of a whole segment may send to all of it, for wire.Fence.
func Allowance() wire.Allowance {
	var a wire.Allowance
	for _, p := range protocols {
		for _, g := range p.Groups {
			a.Groups = append(a.Groups, g.At.Addr())
		}
		for _, c := range p.Casts {
			a.Casts = append(a.Casts, wire.Cast{EtherType: c.EtherType, To: c.To})
		}
	}
	return a
}
