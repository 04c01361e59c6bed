package books

import (
	"errors"
	"fmt"
	"testing"

	"airdrift/core/finding"
	"airdrift/store"
)

// A device without a name goes by its address in what an act would do, and one without either by its number: who looks at it must know which is meant.
func TestStepsNameTheDevice(t *testing.T) {
	for _, tt := range []struct {
		on   store.FoundDevice
		want string
	}{
		{store.FoundDevice{ID: 7, Name: "kitchen-pdu", Addr: "10.9.0.7"}, "kitchen-pdu"},
		{store.FoundDevice{ID: 7, Addr: "10.9.0.7"}, "10.9.0.7"},
		{store.FoundDevice{ID: 7}, "device 7"},
	} {
		var p Proposal
		p.finding(store.Found{Finding: finding.Finding{Remark: finding.Remark{Rule: "unmanaged"}, State: finding.Open}, On: []store.FoundDevice{tt.on}}, Acting{Kind: ActAccept})
		if len(p.Steps) != 1 || p.Steps[0].Name != tt.want || p.Steps[0].Device != 7 {
			t.Errorf("of %+v the steps are %+v, want one on %q", tt.on, p.Steps, tt.want)
		}
	}
}

// A finding that is closed between the proposal and the act is no fault of the service: whoever acts is told to look again.
func TestClosedMeanwhile(t *testing.T) {
	if err := asChanged(fmt.Errorf("finding 7: %w", store.ErrNotOpen)); !errors.Is(err, ErrChanged) {
		t.Errorf("it is said that %v", err)
	}
	if err := asChanged(store.ErrNotFound); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("of what is not there it is said that %v", err)
	}
}
