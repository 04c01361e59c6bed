package sweepfile

import (
	"bytes"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/fault"
)

// writeOne gives a file of one sweep with one sighting, each changed before it is written.
func writeOne(tb testing.TB, change func(*Header, *evidence.Sighting)) []byte {
	tb.Helper()
	h := Header{Ranges: "10.40.1.0/24", Ports: "telling", State: "done", Began: began, Ended: began.Add(time.Minute)}
	s := evidence.Sighting{Addr: netip.MustParseAddr("10.40.1.9"), FirstAt: began, Items: []evidence.Item{{Source: evidence.SourceHTTP, Key: evidence.KeyHTTPTitle, Value: "Palm", At: began}}}
	change(&h, &s)
	var out bytes.Buffer
	w := NewWriter(&out)
	if err := errors.Join(w.Begin(h), w.Sighting(s), w.End()); err != nil {
		tb.Fatal(err)
	}
	return out.Bytes()
}

// Whoever writes a file by hand can put anything into each field: what no sweep can have is refused by its name, and nothing of it comes in.
func TestFieldsThatNoSweepCanHave(t *testing.T) {
	long := strings.Repeat("x", 1001)
	for name, tt := range map[string]struct {
		change func(*Header, *evidence.Sighting)
		want   string
	}{
		"exclusions that are none":     {func(h *Header, _ *evidence.Sighting) { h.Exclusions = "10.40.1.0/99" }, "(sweep.exclusions)"},
		"ports that are none":          {func(h *Header, _ *evidence.Sighting) { h.Ports = "70000" }, "(sweep.ports)"},
		"a state that is not over":     {func(h *Header, _ *evidence.Sighting) { h.State = "running" }, "(sweep.state)"},
		"an end before the beginning":  {func(h *Header, _ *evidence.Sighting) { h.Ended = began.Add(-time.Second) }, "(sweep.began)"},
		"no beginning":                 {func(h *Header, _ *evidence.Sighting) { h.Began = time.Time{} }, "(sweep.began)"},
		"an end beyond what is stored": {func(h *Header, _ *evidence.Sighting) { h.Ended = time.Date(9500, 1, 1, 0, 0, 0, 0, time.UTC) }, "(sweep.began)"},
		"a name without end":           {func(h *Header, _ *evidence.Sighting) { h.Name = long }, "(sweep)"},
		"a warning without end":        {func(h *Header, _ *evidence.Sighting) { h.Warnings = []string{long} }, "(sweep)"},
		"warnings without end":         {func(h *Header, _ *evidence.Sighting) { h.Warnings = make([]string, 201) }, "(sweep)"},
		"subnets without end": {func(h *Header, _ *evidence.Sighting) {
			h.OnLink = slices.Repeat([]netip.Prefix{netip.MustParsePrefix("10.40.1.250/24")}, 65)
		}, "(sweep)"},
		"an address with a zone":          {func(_ *Header, s *evidence.Sighting) { s.Addr = netip.MustParseAddr("fe80::1%eth0") }, "(sighting.addr)"},
		"a unit without end":              {func(_ *Header, s *evidence.Sighting) { s.Unit = strings.Repeat("7", evidence.MaxUnit+1) }, "(sighting)"},
		"a ring that is none":             {func(_ *Header, s *evidence.Sighting) { s.Ring = -1 }, "(sighting)"},
		"seen before there were sweeps":   {func(_ *Header, s *evidence.Sighting) { s.FirstAt = time.Date(1999, 1, 1, 0, 0, 0, 0, time.UTC) }, "(sighting.firstAt)"},
		"facts without end":               {func(_ *Header, s *evidence.Sighting) { s.Items = manyItems(evidence.Asked.Items + 65) }, "(sighting.items)"},
		"a fact from nowhere":             {func(_ *Header, s *evidence.Sighting) { s.Items[0].Source = "" }, "(sighting.items[0])"},
		"a fact with a key without end":   {func(_ *Header, s *evidence.Sighting) { s.Items[0].Key = long }, "(sighting.items[0])"},
		"a fact that was there before":    {func(_ *Header, s *evidence.Sighting) { s.Items[0].RTT = -time.Second }, "(sighting.items[0])"},
		"an answer that took a day":       {func(_ *Header, s *evidence.Sighting) { s.Items[0].RTT = 24 * time.Hour }, "(sighting.items[0])"},
		"a fact from beyond what is kept": {func(_ *Header, s *evidence.Sighting) { s.Items[0].At = time.Date(9500, 1, 1, 0, 0, 0, 0, time.UTC) }, "(sighting.items[0].at)"},
	} {
		var got taken
		err := Read("f", bytes.NewReader(writeOne(t, tt.change)), &got)
		var list *fault.List
		if !errors.As(err, &list) || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s: %v, want %q", name, err, tt.want)
		}
		if got.ends != 0 {
			t.Errorf("%s: the sweep came in as if it were whole", name)
		}
	}
	if err := Read("f", bytes.NewReader(writeOne(t, func(*Header, *evidence.Sighting) {})), &taken{}); err != nil {
		t.Errorf("without a change: %v", err)
	}
}

func manyItems(n int) []evidence.Item {
	list := make([]evidence.Item, n)
	for i := range list {
		list[i] = evidence.Item{Source: evidence.SourceHTTP, Key: evidence.KeyHTTPTitle, Value: fmt.Sprint(i), At: began}
	}
	return list
}

// Lines in an order that no writer has: each is refused where it stands.
func TestLinesOutOfOrder(t *testing.T) {
	lines := strings.SplitAfter(string(writeOne(t, func(*Header, *evidence.Sighting) {})), "\n")
	opening, header, sighting, end := lines[0], lines[1], lines[2], lines[3]
	for name, tt := range map[string]struct{ text, want string }{
		"a sweep in a sweep":               {opening + header + header, "line 3 (sweep): the sweep before has no end"},
		"a sighting of no sweep":           {opening + sighting, "line 2 (sighting): there is no sweep"},
		"an end of no sweep":               {opening + end, "line 2 (end): there is no sweep to end"},
		"a sighting behind the end":        {opening + header + sighting + end + sighting, "line 5 (sighting): there is no sweep"},
		"a second beginning":               {opening + opening, "line 2 (airdrift): a file begins once"},
		"a line that says nothing":         {opening + "{}\n", "line 2: the line holds neither"},
		"of a version that never was":      {strings.Replace(opening, `"version":1`, `"version":0`, 1), "line 1 (airdrift.version): 0 is no version"},
		"of something else":                {strings.Replace(opening, `"sweeps"`, `"secrets"`, 1), `line 1 (airdrift.holds): the file holds "secrets"`},
		"a number that is larger than all": {opening + header + `{"end":{"sightings":99999999999999999999}}` + "\n", "line 3"},
	} {
		if err := Read("f", strings.NewReader(tt.text), &taken{}); err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s: %v, want %q", name, err, tt.want)
		}
	}
}

// refusing takes nothing.
type refusing struct {
	taken
	err error
}

func (r *refusing) Sighting(evidence.Sighting) error { return r.err }

// Where what takes the sweeps refuses one, reading ends with its reason.
func TestReadingEndsWithTheReason(t *testing.T) {
	full := errors.New("the disk is full")
	if err := Read("f", bytes.NewReader(writeOne(t, func(*Header, *evidence.Sighting) {})), &refusing{err: full}); !errors.Is(err, full) {
		t.Errorf("it ended with %v", err)
	}
}
