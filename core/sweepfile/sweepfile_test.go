package sweepfile

import (
	"bytes"
	"errors"
	"io"
	"net/netip"
	"reflect"
	"strings"
	"testing"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/fault"
	"airdrift/core/hwaddr"
)

var began = time.Date(2026, 11, 2, 9, 0, 0, 0, time.UTC)

// taken keeps what it is given.
type taken struct {
	headers   []Header
	sightings []evidence.Sighting
	ends      int
}

func (t *taken) Begin(h Header) error               { t.headers = append(t.headers, h); return nil }
func (t *taken) Sighting(s evidence.Sighting) error { t.sightings = append(t.sightings, s); return nil }
func (t *taken) End() error                         { t.ends++; return nil }

func sample(tb testing.TB) (text []byte, want taken) {
	tb.Helper()
	header := Header{
		Name: "Monday", Vantage: "eth0", Ranges: "10.40.1.0/24", Ports: "telling", State: "done", Began: began, Ended: began.Add(time.Minute), Addresses: 254, Answered: 2, Sent: 900,
		Gateway: netip.MustParseAddr("10.40.1.1"), OnLink: []netip.Prefix{netip.MustParsePrefix("10.40.1.250/24")},
	}
	sightings := []evidence.Sighting{
		{Addr: netip.MustParseAddr("10.40.1.9"), MAC: hwaddr.MustParse("48:9b:34:00:00:01"), Answered: true, Whole: true, FirstAt: began, Items: []evidence.Item{
			{Source: evidence.SourceHTTP, Key: evidence.KeyHTTPTitle, Port: evidence.TCP(80), Value: "<b>Palm & \u2603</b>", At: began, RTT: 1200 * time.Microsecond},
		}},
		{MAC: hwaddr.MustParse("48:9b:34:00:00:02"), FirstAt: began, Items: []evidence.Item{}},
	}
	var out bytes.Buffer
	w := NewWriter(&out)
	for range 2 {
		if err := w.Begin(header); err != nil {
			tb.Fatal(err)
		}
		for _, s := range sightings {
			if err := w.Sighting(s); err != nil {
				tb.Fatal(err)
			}
		}
		if err := w.End(); err != nil {
			tb.Fatal(err)
		}
	}
	return out.Bytes(), taken{[]Header{header, header}, append(sightings, sightings...), 2}
}

func TestSweepsComeBackAsTheyWere(t *testing.T) {
	text, want := sample(t)
	var got taken
	if err := Read("monday.jsonl", bytes.NewReader(text), &got); err != nil {
		t.Fatal(err)
	}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("came back as\n%+v\nwant\n%+v", got, want)
	}
}

// A file that is at fault says where, and what to do.
func TestWhatIsWrongWithAFile(t *testing.T) {
	text, _ := sample(t)
	lines := strings.SplitAfter(string(text), "\n")
	for name, tt := range map[string]struct {
		text string
		want string
	}{
		"empty":             {"", "line 1: the file is empty"},
		"something else":    {"No,Address\n1,10.40.1.9\n", "line 1: this is no file of sweeps"},
		"cut off":           {strings.Join(lines[:3], ""), "line 4: the file ends in the middle of a sweep"},
		"cut off in a line": {string(text[:len(text)-30]), "not readable"},
		"of a newer one":    {strings.Replace(string(text), `"version":1`, `"version":7`, 1), "line 1 (airdrift.version): the file is of version 7"},
		"a line lost":       {strings.Join(append(append([]string{}, lines[:3]...), lines[4:]...), ""), "line 4 (end.sightings): the sweep has 1 sightings, and the file was written with 2"},
		"a line twice":      {strings.Join(append(append([]string{}, lines[:3]...), lines[2:]...), ""), "line 4 (sighting): 10.40.1.9 48:9b:34:00:00:01 was there before"},
		"bad ranges":        {strings.Replace(string(text), "10.40.1.0/24\"", "10.40.1.0/99\"", 1), "line 2 (sweep.ranges)"},
		"unknown member":    {strings.Replace(string(text), `"vantage"`, `"advantage"`, 1), "line 2: not readable"},
		"too long a value":  {strings.Replace(string(text), "Palm", strings.Repeat("x", 2000), 1), "line 3 (sighting.items[0])"},
		"too long a line":   {strings.Replace(string(text), "Palm", strings.Repeat("x", 3<<20), 1), "line 3: the line is longer"},
		"no sighting":       {strings.Replace(string(text), `"addr":"10.40.1.9","mac":"48:9b:34:00:00:01"`, `"addr":""`, 1), "line 3 (sighting): it has neither"},
	} {
		err := Read("f", strings.NewReader(tt.text), &taken{})
		var list *fault.List
		if !errors.As(err, &list) || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s: %v, want %q", name, err, tt.want)
		}
	}
	broken := errors.New("the line broke")
	if err := Read("f", io.MultiReader(bytes.NewReader(text[:200]), failing{broken}), &taken{}); !errors.Is(err, broken) {
		t.Errorf("a transfer that breaks off gives %v", err)
	}
}

type failing struct{ err error }

func (f failing) Read([]byte) (int, error) { return 0, f.err }

// Whatever is in a file, it is refused or taken within bounds.
func FuzzRead(f *testing.F) {
	text, _ := sample(f)
	f.Add(text)
	f.Add([]byte(`{"airdrift":{"holds":"sweeps","version":1}}` + "\n" + `{"end":{"sightings":-1}}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		var got taken
		if err := Read("f", bytes.NewReader(text), &got); err != nil {
			return
		}
		if got.ends != len(got.headers) || got.ends == 0 {
			t.Errorf("%d sweeps have %d ends", len(got.headers), got.ends)
		}
		var out bytes.Buffer
		w := NewWriter(&out)
		if err := errors.Join(w.Begin(got.headers[0]), w.End()); err != nil {
			t.Error(err)
		}
	})
}
