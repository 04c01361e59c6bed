package books

import (
	"errors"
	"net/netip"
	"sync"
	"testing"
	"time"

	"airdrift/core/hwaddr"
	"airdrift/core/identify"
	"airdrift/core/register"
	"airdrift/store"
	"airdrift/store/storetest"
)

// Certificates are told with the numbers and names that devices have now, whatever has been said of them since the newest sweep.
func TestCertificatesGoByTheDevicesOfNow(t *testing.T) {
	k := New(storetest.Open(t), identify.Default())
	ctx := t.Context()
	site := store.Site{Name: "Shown", Networks: []store.Network{{Name: "lan", Subnet: netip.MustParsePrefix("10.9.0.0/24")}}}
	if err := k.store.CreateSite(ctx, &site); err != nil {
		t.Fatal(err)
	}
	visited(t, k, site.ID, time.Now().UTC().Add(-time.Hour).Truncate(time.Second), map[byte]string{5: "Laser Printer", 6: "Network Camera"})
	told := func() []Certificate {
		t.Helper()
		list, err := k.Certificates(ctx, site.ID)
		if err != nil {
			t.Fatal(err)
		}
		return list
	}
	before := told()
	if len(before) != 2 || before[0].Name != "10.9.0.5" {
		t.Fatalf("before there are %+v", before)
	}
	if _, err := k.ImportRegister(ctx, site.ID, []register.Entry{{Name: "hall printer", MAC: hwaddr.MustParse("00:00:01:00:09:05")}}, false, false); err != nil {
		t.Fatal(err)
	}
	if now := told(); len(now) != 2 || now[0].Name != "hall printer" {
		t.Errorf("in the register as the hall printer, it is %+v", now)
	}
	if _, err := k.Merge(ctx, Saying{By: "mason", Reason: "one case", Despite: true}, before[0].Device, before[1].Device); err != nil {
		t.Fatal(err)
	}
	if now := told(); len(now) != 2 || now[0].Device != now[1].Device {
		t.Errorf("merged, they are %+v", now)
	}
}

// While one site is looked through others are told of; what changes meanwhile is looked for again, and a failure is not kept.
func TestKeptPerSweep(t *testing.T) {
	var c perSweep[int]
	looks := 0
	get := func(site, newest uint64) int {
		t.Helper()
		value, err := c.get(site, newest, func() (int, error) { looks++; return looks, nil })
		if err != nil {
			t.Fatal(err)
		}
		return value
	}
	for _, newest := range []uint64{1, 1, 2} {
		if got := get(1, newest); got != int(newest) {
			t.Errorf("as of sweep %d it is %d", newest, got)
		}
	}
	begun, on := make(chan struct{}), make(chan struct{})
	var one sync.WaitGroup
	one.Go(func() {
		_, _ = c.get(1, 3, func() (int, error) { close(begun); <-on; return 30, nil })
	})
	<-begun
	if get(2, 1) != 3 {
		t.Error("another site has waited")
	}
	c.forget(1)
	close(on)
	one.Wait()
	if got := get(1, 3); got != 4 {
		t.Errorf("what was read before a change is told after it: %d", got)
	}
	if _, err := c.get(1, 4, func() (int, error) { return 0, errors.New("away") }); err == nil {
		t.Error("a failure is hidden")
	}
	if got := get(1, 4); got != 5 {
		t.Errorf("a failure is kept: %d", got)
	}
}
