package evidence

import (
	"cmp"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"time"
)

// Hash tells sets of facts apart by what they say: the first half of the SHA-256 of the packed set.
type Hash [16]byte

// IsZero reports whether it is of no set.
func (h Hash) IsZero() bool { return h == Hash{} }

// String gives the hash in hexadecimal digits.
func (h Hash) String() string { return hex.EncodeToString(h[:]) }

// Packed is the facts of a sighting in the form in which they are stored: what the device says, which is the same at the next visit
// where nothing has changed, and what always changes.
//
// A set is the byte 1, the number of facts, and of each fact its source, key, port and value. The passing part is the byte 1; runs of
// facts that were learned at one moment, each as their number and the moment; the counters of interfaces, each behind the place of its fact,
// and 0; and the facts that change by themselves, as in a set, each with its moment. A moment is its place among those before it, counted
// from 1, or 0 with the milliseconds since the last that was new and the round trip in microseconds.
// Numbers are in the variable length of Protocol Buffers, those that may be negative in zigzag form; texts have their length before them.
type Packed struct {
	Hash    Hash
	Set     []byte // equal for equal Hash
	Passing []byte // times, round trips, counters, and facts that change by themselves
}

// packVersion is the first byte of both parts.
const packVersion = 1

// ErrPacked is returned where packed facts cannot be read.
var ErrPacked = errors.New("facts are not stored in a form that this version reads")

// anyOrder are the sources whose facts come in whatever order the network brings them.
var anyOrder = []Source{SourceARP, SourceND, SourceICMP, SourceMDNS, SourceLLMNR, SourceUPnP, SourceWSD, SourceLLDP, SourceDNS, SourceSweep}

// inOrder puts facts in the order in which they are stored: by source, port and key, and within those as they were learned.
func inOrder(a, b Item) int {
	if by := cmp.Or(cmp.Compare(a.Source, b.Source), cmp.Compare(a.Port.Proto, b.Port.Proto), cmp.Compare(a.Port.Number, b.Port.Number), cmp.Compare(a.Key, b.Key)); by != 0 {
		return by
	}
	if slices.Contains(anyOrder, a.Source) {
		return cmp.Compare(a.Value, b.Value)
	}
	return 0
}

// Pack puts facts into the form in which they are stored. Times are kept to the millisecond, counted from first.
func Pack(items []Item, first time.Time) Packed {
	set, steady, counters, passing := packSet(items)
	return Packed{Hash: hashOf(set), Set: set, Passing: appendPassing(steady, counters, passing, first)}
}

// HashOf gives the hash of the set that facts are stored as.
func HashOf(items []Item) Hash {
	set, _, _, _ := packSet(items)
	return hashOf(set)
}

func hashOf(set []byte) Hash {
	sum := sha256.Sum256(set)
	return Hash(sum[:16])
}

// packSet packs what stays, and gives the rest beside it.
func packSet(items []Item) (set []byte, steady []Item, counters []counts, passing []Item) {
	steady, passing = split(items)
	slices.SortStableFunc(steady, inOrder)
	counters = make([]counts, len(steady))
	set = binary.AppendUvarint(append(make([]byte, 0, Size(items)), packVersion), uint64(len(steady)))
	for i := range steady {
		steady[i].Value, counters[i] = withoutCounters(steady[i])
		set = appendFact(set, steady[i])
	}
	return set, steady, counters, passing
}

// split parts facts into those that stay and those that change by themselves.
func split(items []Item) (steady, passing []Item) {
	steady = make([]Item, 0, len(items))
	for _, it := range items {
		if fact, _ := FactOf(it.Key); fact.Passing {
			passing = append(passing, it)
		} else {
			steady = append(steady, it)
		}
	}
	return steady, passing
}

func appendFact(to []byte, it Item) []byte {
	source := string(it.Source)
	if fact, ok := FactOf(it.Key); ok && fact.Source == it.Source {
		source = ""
	}
	to = appendText(to, source)
	to = appendText(to, it.Key)
	to = appendText(to, it.Port.Proto)
	to = binary.AppendUvarint(to, uint64(it.Port.Number))
	return appendText(to, it.Value)
}

func appendText(to []byte, text string) []byte {
	return append(binary.AppendUvarint(to, uint64(len(text))), text...)
}

func appendPassing(steady []Item, counters []counts, passing []Item, first time.Time) []byte {
	to := []byte{packVersion}
	w := &moments{clock: millis(first)}
	for at := 0; at < len(steady); {
		moment := momentOf(steady[at])
		end := at + 1
		for end < len(steady) && momentOf(steady[end]) == moment {
			end++
		}
		to = w.append(binary.AppendUvarint(to, uint64(end-at)), moment)
		at = end
	}
	for i, c := range counters {
		if c.any() {
			to = binary.AppendUvarint(to, uint64(i)+1)
			to = binary.AppendUvarint(binary.AppendUvarint(to, c.in), c.out)
		}
	}
	to = binary.AppendUvarint(to, 0)
	to = binary.AppendUvarint(to, uint64(len(passing)))
	for _, it := range passing {
		to = w.append(appendFact(to, it), momentOf(it))
	}
	return to
}

// moment is when something was learned, in milliseconds since 1970, and by which round trip, in microseconds.
type moment struct {
	at  int64
	rtt uint64
}

func momentOf(it Item) moment {
	return moment{millis(it.At), uint64(max(it.RTT, 0).Microseconds())}
}

func (m moment) time() time.Time {
	if m.at == millis(time.Time{}) {
		return time.Time{}
	}
	return time.UnixMilli(m.at).UTC()
}

// moments are those that were written or read so far; one that comes again is named by its place.
type moments struct {
	known []moment
	clock int64 // of the last that was new
}

func (w *moments) append(to []byte, m moment) []byte {
	if i := slices.Index(w.known, m); i >= 0 {
		return binary.AppendUvarint(to, uint64(i)+1)
	}
	to = binary.AppendVarint(binary.AppendUvarint(to, 0), m.at-w.clock)
	w.known, w.clock = append(w.known, m), m.at
	return binary.AppendUvarint(to, m.rtt)
}

// millis gives a time in milliseconds since 1970; that of the zero time is kept too.
func millis(at time.Time) int64 { return at.UnixMilli() }

// Unpack gives the facts of a sighting that were packed with the time first.
func Unpack(set, passing []byte, first time.Time) ([]Item, error) {
	r := &unpacker{rest: set}
	r.version()
	items := make([]Item, 0, min(r.number(), uint64(len(set))))
	for range cap(items) {
		items = append(items, r.fact())
	}
	if r.broken || len(r.rest) > 0 {
		return nil, fmt.Errorf("the set: %w", ErrPacked)
	}
	r = &unpacker{rest: passing, moments: moments{clock: millis(first)}}
	r.version()
	for at := 0; at < len(items) && !r.broken; {
		end := at + int(min(max(r.number(), 1), uint64(len(items)-at)))
		m := r.moment()
		for ; at < end; at++ {
			items[at].At, items[at].RTT = m.time(), time.Duration(m.rtt)*time.Microsecond
		}
	}
	for !r.broken {
		i := r.number()
		if i == 0 {
			break
		}
		c := counts{r.number(), r.number()}
		if i > uint64(len(items)) {
			r.broken = true
			break
		}
		items[i-1].Value = withCounters(items[i-1].Value, c)
	}
	for range min(r.number(), uint64(len(passing))) {
		it := r.fact()
		m := r.moment()
		it.At, it.RTT = m.time(), time.Duration(m.rtt)*time.Microsecond
		items = append(items, it)
	}
	if r.broken || len(r.rest) > 0 {
		return nil, fmt.Errorf("what passes: %w", ErrPacked)
	}
	return items, nil
}

// unpacker reads packed facts; once broken is set it gives nothing more.
type unpacker struct {
	rest    []byte
	moments moments
	broken  bool
}

func (r *unpacker) version() {
	if len(r.rest) == 0 || r.rest[0] != packVersion {
		r.broken = true
		return
	}
	r.rest = r.rest[1:]
}

func (r *unpacker) number() uint64 {
	n, size := binary.Uvarint(r.rest)
	if size <= 0 || r.broken {
		r.broken = true
		return 0
	}
	r.rest = r.rest[size:]
	return n
}

func (r *unpacker) text() []byte {
	size := r.number()
	if size > uint64(len(r.rest)) || r.broken {
		r.broken = true
		return nil
	}
	text := r.rest[:size]
	r.rest = r.rest[size:]
	return text
}

func (r *unpacker) fact() Item {
	source, key := r.text(), r.text()
	var it Item
	if fact, ok := factOf(key); ok {
		it.Key, it.Source = fact.Key, fact.Source // one copy of each text in memory
	} else {
		it.Key = string(key)
	}
	if len(source) > 0 {
		it.Source = Source(source)
	}
	switch proto := r.text(); string(proto) {
	case "tcp":
		it.Port.Proto = "tcp"
	case "udp":
		it.Port.Proto = "udp"
	default:
		it.Port.Proto = string(proto)
	}
	it.Port.Number = uint16(r.number())
	it.Value = string(r.text())
	return it
}

func (r *unpacker) moment() moment {
	if i := r.number(); i > 0 {
		if i > uint64(len(r.moments.known)) {
			r.broken = true
			return moment{}
		}
		return r.moments.known[i-1]
	}
	since, size := binary.Varint(r.rest)
	if size <= 0 || r.broken {
		r.broken = true
		return moment{}
	}
	r.rest = r.rest[size:]
	r.moments.clock += since
	m := moment{r.moments.clock, r.number()}
	r.moments.known = append(r.moments.known, m)
	return m
}
