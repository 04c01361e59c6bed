package lease

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"airdrift/core/hwaddr"
)

// Where there are more leases than are kept, those go that ended first: one that has no end stays, and so does a fresh one.
func TestOldLeasesMakeRoom(t *testing.T) {
	day := time.Date(2026, 11, 2, 0, 0, 0, 0, time.UTC)
	mac := hwaddr.MustParse("48:9b:34:00:00:01")
	addr := netip.MustParseAddr("10.0.0.0")
	known := make([]Lease, MaxLeases)
	for i := range known {
		addr = addr.Next()
		known[i] = Lease{Addr: addr, MAC: mac, Since: day, Until: day.Add(time.Duration(i+1) * time.Second)}
	}
	known[0].Until = time.Time{} // it has no end
	first, second := known[0].Addr, known[1].Addr
	fresh := Lease{Addr: netip.MustParseAddr("192.168.0.9"), MAC: mac, Since: day, Until: day.Add(240 * time.Hour)}
	all := Over(known, []Lease{fresh})
	if len(all) != MaxLeases {
		t.Fatalf("%d leases are kept, and %d at the most", len(all), MaxLeases)
	}
	is := map[netip.Addr]bool{}
	for _, l := range all {
		is[l.Addr] = true
	}
	if !is[fresh.Addr] || !is[first] || is[second] {
		t.Errorf("kept are the fresh one: %v, the one without an end: %v, the one that ended first: %v", is[fresh.Addr], is[first], is[second])
	}
}

// ISC dhcpd writes times in three ways (dhcpd.leases(5)); what is none is refused with its line.
func TestTimesOfISC(t *testing.T) {
	const lease = "lease 10.40.1.9 {\n  starts %s;\n  hardware ethernet 48:9b:34:00:00:01;\n}\n"
	for text, want := range map[string]time.Time{
		"1 2026/11/02 09:00:00": time.Date(2026, 11, 2, 9, 0, 0, 0, time.UTC),
		"epoch 1793610000":      time.Unix(1793610000, 0).UTC(),
		"never":                 {},
		"epoch soon":            {},
	} {
		got, err := Read("dhcpd.leases", []byte(strings.Replace(lease, "%s", text, 1)), readAt)
		if err != nil || len(got) != 1 || !got[0].Since.Equal(want) {
			t.Errorf("starts %s: %+v, %v; want %v", text, got, err, want)
		}
	}
	_, err := Read("dhcpd.leases", []byte(strings.Replace(lease, "%s", "1 2026/13/02 09:00:00", 1)), readAt)
	if err == nil || !strings.Contains(err.Error(), "line 2") || !strings.Contains(err.Error(), "is not a time such as") {
		t.Errorf("a thirteenth month: %v", err)
	}
}
