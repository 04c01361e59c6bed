package register_test

import (
	"net/netip"
	"slices"
	"testing"

	"airdrift/core/register"
)

func TestDifferences(t *testing.T) {
	was := register.Entry{ID: 4, Name: "oak", Addr: netip.MustParseAddr("10.40.1.9"), Location: "attic", Extra: map[string]string{"Key": "K7", "Floor": "2"}}
	becomes := was
	becomes.ID, becomes.Addr, becomes.Location = 9, netip.Addr{}, "cellar"
	becomes.Extra = map[string]string{"Key": "K7", "Room": "9"}
	want := []register.Difference{{"address", "10.40.1.9", ""}, {"location", "attic", "cellar"}, {"Floor", "2", ""}, {"Room", "", "9"}}
	if got := register.Differences(was, becomes); !slices.Equal(got, want) {
		t.Errorf("the differences are %v, want %v", got, want)
	}
	if got := register.Differences(was, was); got != nil {
		t.Errorf("an entry differs from itself: %v", got)
	}
}
