package service_test

import (
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"

	"airdrift/api"
	"airdrift/client"
	"airdrift/service/servicetest"
	"airdrift/store/storetest"
)

// The register is kept entry by entry; what one could mean is shown, settled by a link, and a link is undone as if it had never been.
func TestRegisterEntryByEntry(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	ctx := t.Context()
	sweepOf(t, s, "10.40.1.40-48")
	devices := devicesOf(t, s)
	at := func(addr string) api.Device {
		t.Helper()
		i := slices.IndexFunc(devices, func(d api.DeviceLine) bool { return slices.Contains(d.Addrs, addr) })
		if i < 0 {
			t.Fatalf("nobody is at %s", addr)
		}
		d, err := s.Client.Device(ctx, devices[i].ID)
		if err != nil {
			t.Fatal(err)
		}
		return d
	}
	meant := at("10.40.1.45")
	// The entry's MAC address is one that the device never had, as after its board was replaced: the address alone does not settle it.
	entry, err := s.Client.AddEntry(ctx, s.Site.ID, api.EntryText{Name: "reading room desk", MAC: "48:9b:34:99:99:01", Addr: "10.40.1.45", Extra: map[string]string{"Key": "K7"}})
	if err != nil || entry.ID == 0 || entry.Standing != "missing" || entry.LastSeen != nil || !slices.Contains(entry.Could, meant.ID) {
		t.Fatalf("added: %+v, %v", entry, err)
	}
	if missing, err := s.Client.MissingEntries(ctx, s.Site.ID); err != nil || !slices.ContainsFunc(missing, func(e api.Entry) bool { return e.ID == entry.ID && len(e.Could) > 0 }) {
		t.Errorf("among the missing are %+v, %v", missing, err)
	}
	for name, wrong := range map[string]api.EntryText{
		"mac zz":                  {Name: "x", MAC: "zz"},
		"names no device":         {Location: "attic"},
		"already there":           {Name: "twin", MAC: "48:9b:34:99:99:01"},
		"address not an IP":       {Name: "x", Addr: "10.40.1.300"},
		"is longer than 1000 byt": {Name: "x", Extra: map[string]string{"Key": strings.Repeat("k", 1001)}},
	} {
		_, err := s.Client.AddEntry(ctx, s.Site.ID, wrong)
		word, _, _ := strings.Cut(name, " ")
		if err == nil || !strings.Contains(err.Error(), word) {
			t.Errorf("%s: %v", name, err)
		}
	}
	decision, err := s.Client.Link(ctx, meant.ID, api.Linking{Entry: entry.ID, Reason: "its board was replaced"})
	if err != nil {
		t.Fatal(err)
	}
	linked := func() {
		t.Helper()
		d, err := s.Client.Device(ctx, meant.ID)
		if err != nil || d.Standing != "managed" || !d.Linked || d.Entry == nil || d.Entry.ID != entry.ID || !strings.Contains(d.MatchedBy, "linked") {
			t.Errorf("linked, the device is %+v, %v", d.DeviceLine, err)
		}
		if e, err := s.Client.Entry(ctx, entry.ID); err != nil || e.Device != meant.ID || e.LastSeen == nil || len(e.Could) > 0 || e.Extra["Key"] != "K7" {
			t.Errorf("linked, the entry is %+v, %v", e, err)
		}
	}
	linked()
	if err := s.Client.Reread(ctx, s.Site.ID); err != nil {
		t.Fatal(err)
	}
	linked()
	if e, err := s.Client.ChangeEntry(ctx, entry.ID, api.EntryText{Name: "reading room desk", MAC: "48:9b:34:99:99:02", Extra: map[string]string{"Key": "K7"}}); err != nil || e.Device != meant.ID {
		t.Errorf("changed: %+v, %v", e, err)
	}
	linked()
	if err := s.Client.Undo(ctx, decision); err != nil {
		t.Fatal(err)
	}
	if d, err := s.Client.Device(ctx, meant.ID); err != nil || d.Standing != meant.Standing || d.Entry != nil || d.Linked {
		t.Errorf("the link undone, the device is %+v, %v", d.DeviceLine, err)
	}
	if err := s.Client.RemoveEntry(ctx, entry.ID); err != nil {
		t.Fatal(err)
	}
	_, err = s.Client.Entry(ctx, entry.ID)
	wantProblem(t, "an entry that was removed", err, http.StatusNotFound, "entry")
	if now := devicesOf(t, s); len(now) != len(devices) {
		t.Errorf("all undone, there are %d devices, want %d", len(now), len(devices))
	}
}

// Replacing the register by a file leaves the entries that stand in both their numbers, and what was linked to them.
func TestReplacedRegisterKeepsItsNumbers(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	file := "name,mac\nash,48:9b:34:99:99:01\nbirch,48:9b:34:99:99:02\n"
	if _, err := s.Client.ImportRegister(t.Context(), s.Site.ID, strings.NewReader(file), client.Import{}); err != nil {
		t.Fatal(err)
	}
	before, err := s.Client.Register(t.Context(), s.Site.ID)
	if err != nil {
		t.Fatal(err)
	}
	done, err := s.Client.ImportRegister(t.Context(), s.Site.ID, strings.NewReader("name,mac\nbirch tree,48:9b:34:99:99:02\n"), client.Import{Replace: true})
	if err != nil || done.Added != 0 || done.Updated != 1 {
		t.Fatalf("%+v, %v", done, err)
	}
	after, err := s.Client.Register(t.Context(), s.Site.ID)
	if err != nil || len(after) != 1 || after[0].Name != "birch tree" || after[0].ID != before[1].ID {
		t.Errorf("of %+v is left %+v, %v", before, after, err)
	}
}

// Who is met at a pinned address is the device that it is pinned to, after a rebuild as at the next visit; undone, all is as before.
func TestPinAndGroup(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	ctx := t.Context()
	sweepOf(t, s, "10.40.1.45-48")
	devices := devicesOf(t, s)
	number := func(addr string) uint64 {
		return devices[slices.IndexFunc(devices, func(d api.DeviceLine) bool { return slices.Contains(d.Addrs, addr) })].ID
	}
	one, two := number("10.40.1.45"), number("10.40.1.46")
	if _, err := s.Client.Pin(ctx, one, api.Pinning{At: "10.40.1.46"}); err == nil || !strings.Contains(err.Error(), "speaks against") {
		t.Errorf("pinned to the address of a device that contradicts it: %v", err)
	}
	if _, err := s.Client.Pin(ctx, one, api.Pinning{At: "the hall"}); err == nil || !strings.Contains(err.Error(), "neither") {
		t.Errorf("pinned to no address: %v", err)
	}
	preview, err := s.Client.Pin(ctx, one, api.Pinning{At: "10.40.1.46", Despite: true, Preview: true})
	if err != nil || preview.Decision != 0 || len(preview.Devices) != 1 {
		t.Fatalf("the preview is %+v, %v", preview, err)
	}
	pinned, err := s.Client.Pin(ctx, one, api.Pinning{At: "10.40.1.46", Despite: true})
	if err != nil || len(pinned.Devices) != 1 || pinned.Devices[0].ID != one {
		t.Fatalf("pinned: %+v, %v", pinned, err)
	}
	sweepOf(t, s, "10.40.1.45-48")
	d, err := s.Client.Device(ctx, one)
	if err != nil || !slices.Contains(d.Addrs, "10.40.1.46") || d.Presence != "seen" {
		t.Errorf("at the next visit it is %+v, %v", d.DeviceLine, err)
	}
	if err := s.Client.SetGroup(ctx, one, "second floor"); err != nil {
		t.Fatal(err)
	}
	if list, err := s.Client.Devices(ctx, s.Site.ID, client.DeviceQuery{Filter: url.Values{"group": {"second floor"}}}); err != nil || list.Counted() != 1 || list.Items[0].ID != one || list.Items[0].Group != "second floor" {
		t.Errorf("of the group are %+v, %v", list, err)
	}
	if err := s.Client.Undo(ctx, pinned.Decision); err != nil {
		t.Fatal(err)
	}
	if d, err = s.Client.Device(ctx, one); err != nil || d.Group != "second floor" || slices.Contains(d.Addrs, "10.40.1.46") {
		t.Errorf("the pin undone, it is %+v, %v", d.DeviceLine, err)
	}
	if err := s.Client.SetGroup(ctx, one, ""); err != nil {
		t.Fatal(err)
	}
	if d, err = s.Client.Device(ctx, two); err != nil || d.ID != two {
		t.Errorf("the other has its number no more: %+v, %v", d.DeviceLine, err)
	}
	looked := 0 // others may have been heard meanwhile
	for _, d := range devicesOf(t, s) {
		for _, a := range []string{"10.40.1.45", "10.40.1.46", "10.40.1.47", "10.40.1.48"} {
			if slices.Contains(d.Addrs, a) {
				looked++
			}
		}
	}
	if looked != 4 {
		t.Errorf("there are %d devices where the sweeps looked, want 4", looked)
	}
}
