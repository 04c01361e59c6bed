package ledger

import (
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/identify"
	"airdrift/core/netrange"
	"airdrift/core/register"
)

// Shelf is where the devices of a site stand. It may give more devices than it is asked for. What it has given it need not give again, and it
// gives the list away.
type Shelf interface {
	// KnownBy gives the devices that have one of the terms among theirs (Device.Terms).
	KnownBy(terms []Term) ([]Device, error)
	// Expected gives the devices that are seen still, were seen from a vantage before, and stand at an address that a sweep covers
	// or were met on its segment.
	Expected(vantage string, covered netrange.Set, onLink []netip.Prefix) ([]Device, error)
	// Missing gives the devices that stand for entries of the register whose device was never seen.
	Missing() ([]Device, error)
	// Items gives the evidence of a device.
	Items(d Device) ([]evidence.Item, error)
}

// Whole is a shelf of all devices of a site, in memory.
type Whole []Device

// KnownBy gives all devices.
func (w Whole) KnownBy([]Term) ([]Device, error) { return slices.Clone(w), nil }

// Expected gives no device that KnownBy does not give.
func (w Whole) Expected(string, netrange.Set, []netip.Prefix) ([]Device, error) { return nil, nil }

// Missing gives no device that KnownBy does not give.
func (w Whole) Missing() ([]Device, error) { return nil, nil }

// Items gives the evidence of a device that was loaded with it.
func (w Whole) Items(d Device) ([]evidence.Item, error) { return d.Items, nil }

// Term is something that devices are found by: a hash of its sort and its text. Two terms may share one, so that more is found than was
// meant, and nothing less.
type Term uint64

// The sorts of terms.
const (
	termUnit   = "unit"
	termMAC    = "mac" // one that it has or had, or that is told of it
	termSelf   = "self"
	termKey    = "key"
	termName   = "name" // the first label, in lower-case letters
	termAddr   = "addr"
	termNumber = "number" // its own, or one of those that were merged into it
	termEntry  = "entry"  // of the register
)

// termOf hashes the sort and the text of a term (FNV-1a, 64 bits).
func termOf(sort string, text ...string) Term {
	const offset, prime = 14695981039346656037, 1099511628211
	hash := uint64(offset)
	add := func(text string) {
		for i := range len(text) {
			hash = (hash ^ uint64(text[i])) * prime
		}
		hash = (hash ^ 0xff) * prime // in no text of UTF-8: ends it
	}
	add(sort)
	for _, part := range text {
		add(part)
	}
	return Term(hash)
}

// terms are terms that were asked for already, or (false) are to be.
type terms map[Term]bool

func (t terms) add(sort string, text ...string) {
	if text[0] == "" {
		return
	}
	if term := termOf(sort, text...); !t[term] {
		t[term] = false
	}
}

// addBytes adds a term of a text that need not be made for it.
func (t terms) addBytes(sort string, text []byte) {
	if term := termOf(sort, string(text)); !t[term] {
		t[term] = false
	}
}

func (t terms) addMAC(m hwaddr.MAC) { t.addBytes(termMAC, m[:]) }

func (t terms) addAddr(a netip.Addr) {
	bytes := a.As16()
	t.addBytes(termAddr, bytes[:])
}

func (t terms) addNumber(sort string, number uint64) { t.add(sort, strconv.FormatUint(number, 10)) }

// fresh gives those that were not asked for yet.
func (t terms) fresh() []Term {
	var fresh []Term
	for term, asked := range t {
		if !asked {
			fresh = append(fresh, term)
			t[term] = true
		}
	}
	return fresh
}

// Terms gives by what a device is found on a shelf, each once.
func (d Device) Terms() []Term {
	t := terms{}
	t.add(termUnit, d.Unit)
	t.add(termSelf, d.Self)
	t.add(termName, firstLabel(d.Identity.Of(identify.Name)))
	for _, m := range d.MACs {
		t.addMAC(m)
	}
	for _, m := range d.Told {
		t.addMAC(m)
	}
	for _, k := range d.Keys {
		t.add(termKey, k.Key, k.Value)
	}
	for _, a := range d.Addrs {
		t.addAddr(a)
	}
	for _, id := range d.Was {
		t.addNumber(termNumber, id)
	}
	if d.ID != 0 {
		t.addNumber(termNumber, d.ID)
	}
	if d.Entry != nil {
		t.addNumber(termEntry, d.Entry.ID)
	}
	return t.fresh()
}

// terms adds by what the body may be found among the devices.
func (b body) terms(t terms) {
	t.add(termUnit, b.behind())
	t.add(termSelf, b.tale.self)
	t.add(termName, firstLabel(b.identity.Of(identify.Name)))
	for _, m := range b.macs() {
		t.addMAC(m)
	}
	for _, m := range b.tale.told {
		t.addMAC(m)
	}
	keys := b.keys
	if keys == nil {
		keys = append(b.tale.identifiers(nil), b.tale.keys...)
	}
	for _, k := range keys {
		t.add(termKey, k.Key, k.Value)
	}
	for _, a := range b.addrs() {
		t.addAddr(a)
	}
}

// NumberTerm gives by what a device is found that has a number, or has had it before it was merged.
func NumberTerm(number uint64) Term { return termOf(termNumber, strconv.FormatUint(number, 10)) }

// TermsOf gives by what the device of an entry may be found.
func TermsOf(e register.Entry) []Term {
	t := terms{}
	entryTerms(t, e)
	return t.fresh()
}

// entryTerms adds by what the device of an entry may be found.
func entryTerms(t terms, e register.Entry) {
	t.addNumber(termEntry, e.ID)
	t.add(termName, firstLabel(e.Name))
	if !e.MAC.IsZero() {
		t.addMAC(e.MAC)
	}
	if e.Addr.IsValid() {
		t.addAddr(e.Addr)
	}
}

// firstLabel gives the first label of a host name as names are compared by it.
func firstLabel(name string) string {
	label, _, _ := strings.Cut(strings.ToLower(name), ".")
	return label
}
