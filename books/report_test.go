package books

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/identify"
	"airdrift/core/report"
	"airdrift/store"
	"airdrift/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// visited enters a sweep in which devices of a network answered: the titles of their web pages by the last number of their addresses.
func visited(t *testing.T, k *Books, site uint64, began time.Time, titles map[byte]string) store.Sweep {
	t.Helper()
	record := store.Sweep{SiteID: site, State: store.Done, Began: began, Ended: began.Add(time.Minute), Ranges: "10.9.0.0/24", Vantage: "lan", Answered: uint64(len(titles))}
	if err := k.store.CreateSweep(t.Context(), &record); err != nil {
		t.Fatal(err)
	}
	var seen []evidence.Sighting
	for last, title := range titles {
		mac := hwaddr.MAC{0, 0, 1, 0, 9, last}
		seen = append(seen, evidence.Sighting{Addr: netip.AddrFrom4([4]byte{10, 9, 0, last}), MAC: mac, Answered: true, Whole: true, FirstAt: began, Items: []evidence.Item{
			{Source: evidence.SourceARP, Key: evidence.KeyMAC, Value: mac.String()},
			{Source: evidence.SourceTCP, Key: evidence.KeyTCPOpen, Port: evidence.TCP(80), Value: "80"},
			{Source: evidence.SourceHTTP, Key: evidence.KeyHTTPTitle, Port: evidence.TCP(80), Value: title},
			{Source: evidence.SourceTLS, Key: evidence.KeyTLSUntil, Port: evidence.TCP(443), Value: began.AddDate(1, 0, int(last)).Format(time.RFC3339)},
		}})
	}
	if _, err := k.store.SaveSightings(t.Context(), record.ID, seen); err != nil {
		t.Fatal(err)
	}
	record, err := k.Enter(t.Context(), record)
	if err != nil {
		t.Fatal(err)
	}
	return record
}

// shown writes the devices of a report: where they are, what they are, and whether they were there.
func shown(r report.Report) string {
	var all []string
	for _, d := range r.Devices {
		all = append(all, fmt.Sprintf("%s %s %s %s", strings.Join(d.Texts("address"), " "), d.Text("kind"), d.Text("standing"), d.Text("presence")))
	}
	return strings.Join(all, "; ")
}

// A report of a day that has passed shows the devices as they were known then, by their numbers of now. Where the evidence of that day is gone it is refused.
func TestReportOfAPastDay(t *testing.T) {
	k := New(storetest.Open(t), identify.Default())
	ctx := t.Context()
	site := store.Site{Name: "Past", Networks: []store.Network{{Name: "lan", Subnet: netip.MustParsePrefix("10.9.0.0/24")}}}
	if err := k.store.CreateSite(ctx, &site); err != nil {
		t.Fatal(err)
	}
	began := time.Now().UTC().Add(-100 * time.Hour).Truncate(time.Second)
	first := visited(t, k, site.ID, began, map[byte]string{5: "Laser Printer", 6: "Network Camera"})
	second := visited(t, k, site.ID, began.Add(24*time.Hour), map[byte]string{5: "Laser Printer", 7: "Laser Printer"})
	visited(t, k, site.ID, began.Add(48*time.Hour), map[byte]string{5: "Network Camera", 7: "Laser Printer", 6: "Network Camera"})
	of := func(q ReportQuery) report.Report {
		t.Helper()
		q.Site, q.Language = site.ID, "en"
		r, err := k.Report(ctx, q)
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	now := of(ReportQuery{})
	if got := shown(now); got != "10.9.0.5 camera unmanaged seen; 10.9.0.6 camera unmanaged seen; 10.9.0.7 printer unmanaged seen" {
		t.Fatal(got)
	}
	for at, want := range map[time.Time]string{
		first.Began.Add(time.Hour):  "10.9.0.5 printer unmanaged seen; 10.9.0.6 camera unmanaged seen",
		second.Began.Add(time.Hour): "10.9.0.5 printer unmanaged seen; 10.9.0.6 camera unmanaged silent; 10.9.0.7 printer unmanaged seen",
	} {
		then := of(ReportQuery{At: at})
		if got := shown(then); got != want {
			t.Errorf("at %s it shows %q, want %q", at, got, want)
		}
		for _, d := range then.Devices {
			for _, n := range now.Devices {
				if (d.Texts("address")[0] == n.Texts("address")[0]) != (d.ID == n.ID) {
					t.Errorf("%v had the number %d, and %v has %d", d.Texts("address"), d.ID, n.Texts("address"), n.ID)
				}
			}
		}
	}
	chosen := []uint64{now.Devices[2].ID, now.Devices[0].ID}
	if got := shown(of(ReportQuery{Extract: "some", Devices: chosen, At: first.Began.Add(time.Hour)})); got != "10.9.0.5 printer unmanaged seen" {
		t.Errorf("an extract shows %q", got)
	}
	b, err := k.bookkeeper(ctx, site)
	if err != nil {
		t.Fatal(err)
	}
	if err := k.store.Thin(ctx, site.ID, []uint64{second.ID}, k.rebuildingOf(site.ID, b, nil)); err != nil {
		t.Fatal(err)
	}
	if got := shown(of(ReportQuery{At: second.Began.Add(time.Hour)})); !strings.Contains(got, "10.9.0.6 camera unmanaged silent") {
		t.Errorf("from what is kept of the thinned sweep it shows %q", got)
	}
	if _, err := k.Report(ctx, ReportQuery{Site: site.ID, Language: "en", At: first.Began.Add(time.Hour)}); err == nil || !strings.Contains(err.Error(), "at: ") || !strings.Contains(err.Error(), "no longer kept") {
		t.Errorf("of a day whose evidence is gone: %v", err)
	}
}
