// Package netrange reads what a person writes for a range of addresses, and answers what is in it, how much that
// is, and in which order to visit it.
package netrange

import (
	"errors"
	"fmt"
	"math"
	"math/bits"
	"net/netip"
	"slices"
	"sort"
	"strconv"
	"strings"
)

// MaxCount is the largest number of addresses a Set may hold: one IPv4 /8.
const MaxCount = 1 << 24

// ErrEmpty is returned where a range holds no address at all.
var ErrEmpty = errors.New("no addresses given: write for example 10.40.1.0/24, 10.40.1.20-10.40.1.80 or 10.40.1.20-80")

// PartError is a fault in one part of a list of ranges.
type PartError struct {
	Part  string // the part as it was written
	Index int    // its place in the list, from 1
	Why   string // what is wrong and what to write instead
}

func (e *PartError) Error() string {
	return fmt.Sprintf("range %d, %q: %s", e.Index, e.Part, e.Why)
}

// span is a run of addresses of one family, both ends included.
type span struct{ from, to netip.Addr }

// Set is a set of addresses, kept as sorted runs that neither touch nor overlap. The zero Set is empty.
type Set struct {
	spans  []span
	before []uint64 // before[i] is how many addresses precede spans[i]
	count  uint64
}

// Parse reads a list of ranges separated by commas or white space. A part is an address (10.40.1.9), a CIDR prefix
// (10.40.1.0/24), a from-to pair (10.40.1.20-10.40.1.80) or a short one (10.40.1.20-80, IPv4 only).
// A fault is returned as a *PartError, an empty list as ErrEmpty.
func Parse(text string) (Set, error) {
	parts := strings.FieldsFunc(text, isSeparator)
	if len(parts) == 0 {
		return Set{}, ErrEmpty
	}
	spans := make([]span, 0, len(parts))
	for i, part := range parts {
		s, err := parsePart(part)
		if err != nil {
			return Set{}, &PartError{Part: part, Index: i + 1, Why: err.Error()}
		}
		spans = append(spans, s)
	}
	set := build(spans)
	if set.count > MaxCount {
		return Set{}, &PartError{Part: text, Index: 1, Why: tooMany(set.count)}
	}
	return set, nil
}

func isSeparator(r rune) bool {
	return r == ',' || r == ';' || r == ' ' || r == '\t' || r == '\n' || r == '\r'
}

// FromPrefixes makes the set of all addresses of the prefixes.
func FromPrefixes(prefixes ...netip.Prefix) Set {
	spans := make([]span, 0, len(prefixes))
	for _, p := range prefixes {
		spans = append(spans, span{p.Masked().Addr(), Last(p)})
	}
	return build(spans)
}

func parsePart(part string) (span, error) {
	var s span
	var err error
	switch {
	case strings.Contains(part, "/"):
		s, err = parsePrefix(part)
	case strings.Contains(part, "-"):
		s, err = parsePair(part)
	default:
		s.from, err = parseAddr(part)
		s.to = s.from
	}
	if err != nil {
		return span{}, err
	}
	if n, fits := distance(s.from, s.to); !fits || n >= MaxCount {
		return span{}, errors.New(sizeText(s, n, fits))
	}
	return s, nil
}

func sizeText(s span, n uint64, fits bool) string {
	if !fits {
		return tooMany(0)
	}
	return tooMany(n + 1)
}

// tooMany words the refusal; count 0 stands for 2^64 and more.
func tooMany(count uint64) string {
	size := "2^64 or more"
	if count > 0 {
		size = strconv.FormatUint(count, 10)
	}
	return fmt.Sprintf("holds %s addresses, and a sweep takes at most %d (an IPv4 /8): give smaller ranges", size, MaxCount)
}

func parsePrefix(part string) (span, error) {
	p, err := netip.ParsePrefix(part)
	if err != nil {
		return span{}, errors.New("not a CIDR prefix: want an address, a slash and a length, such as 10.40.1.0/24")
	}
	if p.Masked() != p {
		return span{}, fmt.Errorf("has bits set behind its length: did you mean %s, or %s alone?", p.Masked(), p.Addr())
	}
	return span{p.Addr(), Last(p)}, nil
}

func parsePair(part string) (span, error) {
	left, right, _ := strings.Cut(part, "-")
	from, err := parseAddr(left)
	if err != nil {
		return span{}, err
	}
	to, err := parseRight(from, right)
	if err != nil {
		return span{}, err
	}
	if to.Is4() != from.Is4() {
		return span{}, errors.New("mixes IPv4 and IPv6")
	}
	if to.Less(from) {
		return span{}, fmt.Errorf("ends (%s) before it starts (%s)", to, from)
	}
	return span{from, to}, nil
}

// parseRight reads the end of a pair: a whole address, or the last octet of an IPv4 one.
func parseRight(from netip.Addr, right string) (netip.Addr, error) {
	if strings.ContainsAny(right, ".:") || !from.Is4() {
		return parseAddr(right)
	}
	octet, err := strconv.ParseUint(right, 10, 8)
	if err != nil {
		return netip.Addr{}, fmt.Errorf("%q is not a last octet (0 to 255)", right)
	}
	b := from.As4()
	b[3] = byte(octet)
	return netip.AddrFrom4(b), nil
}

func parseAddr(text string) (netip.Addr, error) {
	a, err := netip.ParseAddr(text)
	if err != nil || a.Zone() != "" {
		return netip.Addr{}, fmt.Errorf("%q is not an address such as 10.40.1.9 or 2001:db8::9", text)
	}
	return a.Unmap(), nil
}

// Last gives the highest address of a prefix; for an IPv4 subnet that is its broadcast address.
func Last(p netip.Prefix) netip.Addr {
	b := p.Masked().Addr().AsSlice()
	for i := p.Bits(); i < len(b)*8; i++ {
		b[i/8] |= 0x80 >> (i % 8)
	}
	a, _ := netip.AddrFromSlice(b)
	return a
}

// distance gives to-from and whether it fits 64 bits.
func distance(from, to netip.Addr) (uint64, bool) {
	fromHigh, fromLow := halves(from)
	toHigh, toLow := halves(to)
	low, borrow := bits.Sub64(toLow, fromLow, 0)
	high, _ := bits.Sub64(toHigh, fromHigh, borrow)
	return low, high == 0
}

func halves(a netip.Addr) (high, low uint64) {
	b := a.As16()
	for i := range 8 {
		high = high<<8 | uint64(b[i])
		low = low<<8 | uint64(b[i+8])
	}
	return high, low
}

// offset gives the address n places after a, in a's own family.
func offset(a netip.Addr, n uint64) netip.Addr {
	high, low := halves(a)
	low, carry := bits.Add64(low, n, 0)
	high += carry
	var b [16]byte
	for i := range 8 {
		b[i] = byte(high >> (56 - 8*i))
		b[i+8] = byte(low >> (56 - 8*i))
	}
	if a.Is4() {
		return netip.AddrFrom16(b).Unmap()
	}
	return netip.AddrFrom16(b)
}

// build sorts and merges spans and counts them.
func build(spans []span) Set {
	slices.SortFunc(spans, func(a, b span) int { return a.from.Compare(b.from) })
	var set Set
	for _, s := range spans {
		if n := len(set.spans); n > 0 && joins(set.spans[n-1], s) {
			if set.spans[n-1].to.Less(s.to) {
				set.spans[n-1].to = s.to
			}
			continue
		}
		set.spans = append(set.spans, s)
	}
	for _, s := range set.spans {
		set.before = append(set.before, set.count)
		n, fits := distance(s.from, s.to)
		size, carry := bits.Add64(set.count, n, 1)
		if !fits || carry > 0 {
			size = math.MaxUint64 // IPv6 networks; nobody counts on
		}
		set.count = size
	}
	return set
}

// joins reports whether b, which does not start before a, overlaps a or follows it at once.
func joins(a, b span) bool {
	if a.to.Is4() != b.from.Is4() {
		return false
	}
	return !a.to.Less(b.from) || a.to.Next() == b.from
}

// Count gives the number of addresses, or the largest number there is where they are more.
func (s Set) Count() uint64 { return s.count }

// Span is a run of addresses, both ends in it.
type Span struct{ First, Last netip.Addr }

// Spans gives the runs that the set is made of, in ascending order.
func (s Set) Spans() []Span {
	spans := make([]Span, len(s.spans))
	for i, run := range s.spans {
		spans[i] = Span{run.from, run.to}
	}
	return spans
}

// At gives the address at place i, in ascending order; i must be less than Count.
func (s Set) At(i uint64) netip.Addr {
	k := sort.Search(len(s.before), func(k int) bool { return s.before[k] > i }) - 1
	return offset(s.spans[k].from, i-s.before[k])
}

// Index gives the place of an address, and whether it is in the set at all.
func (s Set) Index(a netip.Addr) (uint64, bool) {
	k := sort.Search(len(s.spans), func(k int) bool { return a.Less(s.spans[k].from) }) - 1
	if k < 0 || s.spans[k].to.Less(a) || s.spans[k].from.Is4() != a.Is4() {
		return 0, false
	}
	n, _ := distance(s.spans[k].from, a)
	return s.before[k] + n, true
}

// Contains reports whether the address is in the set.
func (s Set) Contains(a netip.Addr) bool {
	_, ok := s.Index(a)
	return ok
}

// Union gives the addresses that are in either set.
func (s Set) Union(other Set) Set { return build(slices.Concat(s.spans, other.spans)) }

// Without gives the set less all addresses of other.
func (s Set) Without(other Set) Set {
	var left []span
	for _, whole := range s.spans {
		left = append(left, cut(whole, other.spans)...)
	}
	return build(left)
}

// cut gives what remains of one span after taking sorted holes out of it.
func cut(whole span, holes []span) []span {
	var left []span
	for _, hole := range holes {
		if hole.from.Is4() != whole.from.Is4() || hole.to.Less(whole.from) || whole.to.Less(hole.from) {
			continue
		}
		if whole.from.Less(hole.from) {
			left = append(left, span{whole.from, hole.from.Prev()})
		}
		if !hole.to.Less(whole.to) {
			return left
		}
		whole.from = hole.to.Next()
	}
	return append(left, whole)
}

// Outside gives the first address of the set that is in none of the prefixes, and false if they hold it all.
func (s Set) Outside(prefixes []netip.Prefix) (netip.Addr, bool) {
	rest := s.Without(FromPrefixes(prefixes...))
	if rest.count == 0 {
		return netip.Addr{}, false
	}
	return rest.spans[0].from, true
}

// String writes the set in the shortest form that Parse reads back: addresses, prefixes and from-to pairs.
func (s Set) String() string {
	texts := make([]string, len(s.spans))
	for i, sp := range s.spans {
		texts[i] = sp.String()
	}
	return strings.Join(texts, ", ")
}

func (s span) String() string {
	if s.from == s.to {
		return s.from.String()
	}
	n, _ := distance(s.from, s.to)
	if size := n + 1; bits.OnesCount64(size) == 1 {
		p := netip.PrefixFrom(s.from, s.from.BitLen()-bits.TrailingZeros64(size))
		if p.Masked() == p {
			return p.String()
		}
	}
	return s.from.String() + "-" + s.to.String()
}

// Hosts gives the addresses of a subnet that devices may hold: without those that stand for all of it (RFC 1122,
// 3.2.1.3; RFC 3021) or, in IPv6, for any router of it (RFC 4291, 2.6.1).
func Hosts(p netip.Prefix) Set {
	all := FromPrefixes(p)
	first := netip.PrefixFrom(p.Masked().Addr(), p.Addr().BitLen())
	switch {
	case p.Addr().Is4() && p.Bits() <= 30:
		return all.Without(FromPrefixes(first, netip.PrefixFrom(Last(p), 32)))
	case p.Addr().Is6() && p.Bits() <= 126:
		return all.Without(FromPrefixes(first))
	}
	return all
}

// Covers reports whether the set holds every address that devices of these IPv4 subnets may hold. Subnets of IPv6 do not
// count: nobody looks through them address by address.
func (s Set) Covers(subnets []netip.Prefix) bool {
	for _, p := range subnets {
		if p.Addr().Is4() && Hosts(p).Without(s).count > 0 {
			return false
		}
	}
	return true
}

// maxFreeSearch bounds the search for a free address, so that it ends in a network that is larger than anybody fills.
const maxFreeSearch = 1 << 20

// FirstFree gives the lowest address of the set that is not taken, and false where there is none among its first 2^20.
func (s Set) FirstFree(taken func(netip.Addr) bool) (netip.Addr, bool) {
	left := maxFreeSearch
	for _, sp := range s.spans {
		for a := sp.from; left > 0; a = a.Next() {
			if !taken(a) {
				return a, true
			}
			if left--; a == sp.to {
				break
			}
		}
	}
	return netip.Addr{}, false
}

// CountText gives the number of addresses that devices of a subnet may hold, in digits, or as a power of two where it
// has more than seven.
func CountText(p netip.Prefix) string {
	if free := p.Addr().BitLen() - p.Bits(); free > 23 {
		return fmt.Sprintf("2^%d", free)
	}
	return strconv.FormatUint(Hosts(p).count, 10)
}

// ParseFile reads a list of ranges from a file: as Parse does, with comments from # to the end of a line. A fault is
// returned as a *LineError.
func ParseFile(text string) (Set, error) {
	var all Set
	for i, line := range strings.Split(text, "\n") {
		line, _, _ = strings.Cut(line, "#")
		set, err := Parse(line)
		if errors.Is(err, ErrEmpty) {
			continue
		}
		if err != nil {
			return Set{}, &LineError{Line: i + 1, Err: err}
		}
		all = all.Union(set)
		if all.count > MaxCount {
			return Set{}, &LineError{Line: i + 1, Err: errors.New("with this line the list " + tooMany(all.count))}
		}
	}
	if all.count == 0 {
		return Set{}, ErrEmpty
	}
	return all, nil
}

// LineError is a fault in one line of a list of ranges.
type LineError struct {
	Line int // from 1
	Err  error
}

func (e *LineError) Error() string { return fmt.Sprintf("line %d: %v", e.Line, e.Err) }

func (e *LineError) Unwrap() error { return e.Err }
