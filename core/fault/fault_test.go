package fault

import (
	"strings"
	"testing"
)

func TestFaultTellsItsPlace(t *testing.T) {
	for _, tt := range []struct {
		fault Fault
		want  string
	}{
		{Fault{Line: 3, Column: 5, Field: "mac", Why: "wrong"}, "line 3, column 5 (mac): wrong"},
		{Fault{Line: 3, Why: "wrong"}, "line 3: wrong"},
		{Fault{Field: "mac", Why: "wrong"}, "(mac): wrong"},
		{Fault{Why: "empty"}, "empty"},
	} {
		if got := tt.fault.String(); got != tt.want {
			t.Errorf("%+v is told as %q, want %q", tt.fault, got, tt.want)
		}
	}
}

func TestListIsBounded(t *testing.T) {
	l := List{Name: "register.csv"}
	if l.Err() != nil {
		t.Error("a list without faults is an error")
	}
	for i := range MaxListed + 7 {
		l.Add(Fault{Line: i + 1, Why: "wrong"})
	}
	text := l.Err().Error()
	if l.Count() != MaxListed+7 || len(l.Faults) != MaxListed || !strings.HasPrefix(text, "register.csv:\nline 1: wrong\n") || !strings.HasSuffix(text, "and 7 more") {
		t.Errorf("%d faults, %d kept:\n%s", l.Count(), len(l.Faults), text)
	}
}
