package evidence

import (
	"errors"
	"slices"
	"testing"
	"time"
)

var visit = time.Date(2026, 11, 2, 9, 0, 0, 0, time.UTC)

func init() {
	Register(Fact{Key: "test.clock", Source: "test", Says: "its clock", Passing: true})
}

// talk is what a device says at a visit, its facts learned at their own times.
func talk(at time.Time, clock string, in uint64) []Item {
	return []Item{
		{Source: SourceHTTP, Key: KeyHTTPTitle, Port: TCP(8080), Value: "Palm House", At: at.Add(1500 * time.Millisecond), RTT: 1234 * time.Microsecond},
		{Source: SourceARP, Key: KeyMAC, Value: "48:9b:34:00:00:01", At: at},
		{Source: SourceMDNS, Key: KeyMDNSType, Value: "_ipp._tcp", At: at.Add(-time.Second)},
		{Source: SourceMDNS, Key: KeyMDNSType, Value: "_http._tcp", At: at.Add(-time.Second)},
		{Source: "test", Key: "test.clock", Value: clock, At: at},
		{Source: SourceSNMP, Key: KeySNMPInterface, Value: Row(Interface{Index: 1, Name: "eth0", Up: true, In: in, Out: in / 2}), At: at.Add(time.Minute)},
		{Source: "elsewhere", Key: "of.another", Port: UDP(161), Value: ""},
	}
}

// What a device says is kept whole, and is one set at each visit whatever its clock and counters say and in which order it speaks.
func TestFactsArePacked(t *testing.T) {
	first := talk(visit, "09:00", 4711)
	packed := Pack(first, visit)
	got, err := Unpack(packed.Set, packed.Passing, visit)
	if err != nil || len(got) != len(first) {
		t.Fatalf("%d of %d facts, %v", len(got), len(first), err)
	}
	for _, it := range first {
		if !slices.Contains(got, it) {
			t.Errorf("%+v is not among %+v", it, got)
		}
	}
	later := talk(visit.Add(24*time.Hour), "09:17", 90_000)
	later[2], later[3] = later[3], later[2]
	if again := Pack(later, visit.Add(24*time.Hour)); again.Hash != packed.Hash || string(again.Set) != string(packed.Set) {
		t.Error("another clock, other counters and another order make another set")
	}
	later[0].Value = "Cactus House"
	if HashOf(later) == packed.Hash {
		t.Error("another title makes no other set")
	}
	if len(packed.Passing) > 100 {
		t.Errorf("what passes takes %d bytes", len(packed.Passing))
	}
	none := Pack(nil, visit)
	if got, err := Unpack(none.Set, none.Passing, visit); err != nil || len(got) != 0 {
		t.Errorf("nothing gives %+v, %v", got, err)
	}
}

// Packed facts that were cut off or are of another version are refused, wherever they end.
func FuzzUnpack(f *testing.F) {
	packed := Pack(talk(visit, "09:00", 7), visit)
	f.Add(packed.Set, packed.Passing)
	for end := range packed.Set {
		if _, err := Unpack(packed.Set[:end], packed.Passing, visit); !errors.Is(err, ErrPacked) {
			f.Errorf("a set cut off at %d gives %v", end, err)
		}
	}
	for end := range packed.Passing {
		if _, err := Unpack(packed.Set, packed.Passing[:end], visit); !errors.Is(err, ErrPacked) {
			f.Errorf("what passes cut off at %d gives %v", end, err)
		}
	}
	f.Fuzz(func(t *testing.T, set, passing []byte) {
		items, err := Unpack(set, passing, visit)
		if err != nil {
			return
		}
		again := Pack(items, visit)
		if got, err := Unpack(again.Set, again.Passing, visit); err != nil || len(got) != len(items) {
			t.Errorf("%d facts became %d, %v", len(items), len(got), err)
		}
	})
}
