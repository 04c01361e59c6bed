package command

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"airdrift/api"
)

// Where nobody watches a line change, each stage leaves one line of its own, and notes come between.
func TestProgressAwayFromATerminal(t *testing.T) {
	var out bytes.Buffer
	l := newProgressLine(&out)
	l.progress(api.Progress{Stage: "roll call", Done: 1, Total: 9})
	l.progress(api.Progress{Stage: "roll call", Done: 9, Total: 9, Found: 3})
	l.say("Note: \x1b[2Jno rights")
	l.progress(api.Progress{Stage: "asking", Done: 2, Total: 4, Found: 3})
	l.end()
	l.end()
	want := "Note: \\x1b[2Jno rights\nroll call: 9 of 9 questions settled, 3 found\nasking: 2 of 4 questions settled, 3 found\n"
	if out.String() != want {
		t.Errorf("wrote %q, want %q", out.String(), want)
	}
}

func TestDescribeProgress(t *testing.T) {
	got := describe(api.Progress{Stage: "asking", Found: 61, Rate: 1053.6, Seconds: 75})
	for _, part := range []string{"asking", "found 61", "1054/s", "left 1m15s"} {
		if !strings.Contains(got, part) {
			t.Errorf("%q lacks %q", got, part)
		}
	}
}

func TestLocalTimeOfNeverIsEmpty(t *testing.T) {
	if got := localTime(nil); got != "" {
		t.Errorf("never is written as %q", got)
	}
	at := time.Date(2026, 11, 2, 9, 4, 0, 0, time.Local)
	if got := localTime(&at); got != "2026-11-02 09:04" {
		t.Errorf("got %q", got)
	}
}

func TestRemarksOnMACs(t *testing.T) {
	for _, tt := range []struct {
		vendor api.Vendor
		says   string
	}{
		{api.Vendor{Group: true, Private: true}, "group"}, {api.Vendor{Shared: true}, "virtual router"},
		{api.Vendor{FromSite: true, Private: true, Organisation: "x"}, "site's own"}, {api.Vendor{Private: true}, "private"},
		{api.Vendor{}, "not registered"}, {api.Vendor{Organisation: "x"}, ""},
	} {
		if got := vendorRemark(tt.vendor); !strings.Contains(got, tt.says) || (got == "") != (tt.says == "") {
			t.Errorf("%+v: %q, want %q", tt.vendor, got, tt.says)
		}
	}
}
