package evidence

import (
	"encoding/json"
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
	got := Merge([]Item{at(80, "a")}, []Item{at(80, "a"), at(81, "a"), at(80, "b"), at(80, "b")})
	if len(got) != 3 || got[1] != at(81, "a") || got[2] != at(80, "b") {
		t.Errorf("merged to %+v", got)
	}
}
