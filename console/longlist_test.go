package console_test

import (
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/store"
	"airdrift/store/storetest"
)

// TestHundredThousandRows looks at a sweep that runs and has seen 100,000: it is scrolled to anywhere, a few rows are drawn, and what is seen further is shown.
func TestHundredThousandRows(t *testing.T) {
	dsn := storetest.DSN(t)
	h := openOn(t, dsn)
	st, err := store.Open(t.Context(), dsn)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = st.Close() })
	record := store.Sweep{SiteID: h.Site.ID, State: store.Running, Vantage: "sim0", Ranges: "10.40.0.0/15", Began: time.Now().UTC()}
	if err := st.CreateSweep(t.Context(), &record); err != nil {
		t.Fatal(err)
	}
	const many = 100_000
	see := func(from, to int) {
		var list []evidence.Sighting
		for n := from; n < to; n++ {
			list = append(list, evidence.Sighting{
				Addr: netip.AddrFrom4([4]byte{10, 40 + byte(n>>16), byte(n >> 8), byte(n)}), MAC: hwaddr.MAC{0x48, 0x9b, 0x34, byte(n >> 16), byte(n >> 8), byte(n)}, Answered: true, FirstAt: record.Began,
			})
		}
		if _, err := st.SaveSightings(t.Context(), record.ID, list); err != nil {
			t.Fatal(err)
		}
	}
	for n := 0; n < many; n += 1000 {
		see(n, n+1000)
	}
	const frame, rows = `document.querySelector("[role=region][tabindex]")`, `document.querySelectorAll("[role=row]").length`
	h.do("in", chromedp.Navigate(h.URL), has("Sign in"), fill("Name", "administrator"), fill("Password", h.Password), click("Sign in"), has("Overview"))
	h.do("the sweep", chromedp.Navigate(h.path(fmt.Sprintf("/sweeps/%d", record.ID))), has("running"), has("of 100,000"), has("10.40.0.0"), until(rows+" < 60"))
	h.do("its middle", until("("+frame+".scrollTop = 50_000 * 36, true)"), has("10.40.195.84"), has("50,001–"), until(rows+" < 60"))
	h.do("its end", until("("+frame+".scrollTop = 1e9, true)"), has("10.41.134.159"), has("–100,000 of 100,000"), until(rows+" < 60"))
	see(many, many+1)
	h.do("one more", has("of 100,001"), until("("+frame+".scrollTop = 1e9, true)"), has("10.41.134.160"), has("–100,001 of 100,001"))
	h.do("who cannot see it is told how many", until(`document.querySelector("[role=table]").ariaRowCount === "100002"`), until(`[...document.querySelectorAll("[role=row]")].at(-1).ariaRowIndex === "100002"`))
}
