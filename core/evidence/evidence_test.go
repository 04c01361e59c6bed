package evidence

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"unicode/utf8"
)

func TestCleanBoundsAndMends(t *testing.T) {
	tests := []struct{ raw, want string }{
		{"  SSH-2.0-x\r\n", "SSH-2.0-x"},
		{"a\xff\xfeb", "a\uFFFDb"},
		{"\x1b[31mred", "\x1b[31mred"},
	}
	for _, tt := range tests {
		if got := Clean([]byte(tt.raw)); got != tt.want {
			t.Errorf("Clean(%q) = %q, want %q", tt.raw, got, tt.want)
		}
	}
	long := Clean([]byte(strings.Repeat("é", MaxValue)))
	if len(long) > MaxValue || !utf8.ValidString(long) {
		t.Errorf("a long text became %d bytes, valid %v", len(long), utf8.ValidString(long))
	}
}

func TestItemJSONRoundTrip(t *testing.T) {
	for _, item := range []Item{
		{Source: SourceHTTP, Key: KeyHTTPTitle, Port: TCP(8080), Value: "Palm House"},
		{Source: SourceARP, Key: KeyMAC, Value: "3c:5a:b4:01:02:03"},
	} {
		text, err := json.Marshal(item)
		if err != nil {
			t.Fatal(err)
		}
		var got Item
		if err := json.Unmarshal(text, &got); err != nil || got != item {
			t.Errorf("%s reads back as %+v, %v", text, got, err)
		}
	}
}

func TestPortRefusesNonsense(t *testing.T) {
	for _, text := range []string{"80", "tcp/", "tcp/65536", "sctp/80", "tcp/-1"} {
		var p Port
		if err := p.UnmarshalText([]byte(text)); err == nil {
			t.Errorf("%q reads as %v, want an error", text, p)
		}
	}
}

func TestMergeKeepsEachFactOnce(t *testing.T) {
	at := func(port uint16, value string) Item {
		return Item{Source: SourceHTTP, Key: KeyHTTPTitle, Port: TCP(port), Value: value}
	}
	got := Merge([]Item{at(80, "a")}, []Item{at(80, "a"), at(81, "a"), at(80, "b"), at(80, "b")}, Asked)
	if len(got) != 3 || got[1] != at(81, "a") || got[2] != at(80, "b") {
		t.Errorf("merged to %+v", got)
	}
}

// A device or a neighbour that talks without end is kept within bounds, and it is said that something was left out.
func TestMergeIsBounded(t *testing.T) {
	small := Bounds{Items: 100, Bytes: 20_000}
	var items []Item
	for i := range 5000 {
		items = Merge(items, []Item{{Source: SourceMDNS, Key: KeyMDNSText, Value: fmt.Sprintf("n=%d %s", i, strings.Repeat("x", i%900))}}, small)
	}
	if len(items) > small.Items+1 || Size(items) > small.Bytes+100 {
		t.Errorf("%d facts of %d bytes are kept, want at most %+v", len(items), Size(items), small)
	}
	if cut := Values(items, KeyCut); len(cut) != 1 || cut[0] != "mdns" {
		t.Errorf("what was left out is told as %q", cut)
	}
	items = Merge(items, []Item{{Source: SourceSSH, Key: KeySSHGreeting, Value: "SSH-2.0-x"}}, Asked)
	if First(items, KeySSHGreeting) == "" {
		t.Error("what was heard has left no room for what is answered")
	}
	if again := Merge(items, items, Asked); len(again) != len(items) {
		t.Errorf("%d facts became %d when they were said again", len(items), len(again))
	}
}
