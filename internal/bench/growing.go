package main

import (
	"context"
	"database/sql"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"airdrift/books"
	"airdrift/client"
	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/identify"
	"airdrift/core/ledger"
	"airdrift/service"
	"airdrift/store"
)

// saying gives the 18 facts of a device of a large site at a visit; at each visit one of a hundred devices has new firmware.
func saying(device, visit uint32, began time.Time) []evidence.Item {
	mac := macOf(device)
	release := uint32(0)
	if visit > 0 && device%100 == visit%100 {
		release = visit
	}
	at := began.Add(time.Duration(device%5000) * time.Millisecond)
	items := facts(mac.String())
	for _, said := range [][2]string{
		{evidence.KeySNMPDescr, fmt.Sprintf("Example Laser 9 network printer, revision 2.%d", release)}, {evidence.KeySNMPObject, "1.3.6.1.4.1.2435.2.3.9.1"}, {evidence.KeySNMPEnterprise, "2435"},
		{evidence.KeySNMPName, fmt.Sprintf("printer-%d", device)}, {evidence.KeySNMPSerial, fmt.Sprintf("E7J%07d", device)}, {"ssh.hostkey", fmt.Sprintf("SHA256:%064x", device)},
		{evidence.KeyMDNSType, "_ipp._tcp"}, {evidence.KeyIPPModel, "Brother HL-9"},
	} {
		source, _, _ := strings.Cut(said[0], ".")
		items = append(items, evidence.Item{Source: evidence.Source(source), Key: said[0], Value: said[1]})
	}
	for i := range items {
		items[i].At, items[i].RTT = at.Add(time.Duration(i/4)*37*time.Millisecond), time.Duration(300+device%700)*time.Microsecond
	}
	return items
}

func macOf(device uint32) hwaddr.MAC {
	return hwaddr.MAC{0x00, 0x00, 0x01, byte(device >> 16), byte(device >> 8), byte(device)}
}

// visit stores a sweep of so many devices.
func visit(ctx context.Context, st *store.Store, site uint64, devices, visit uint32) (store.Sweep, error) {
	record := store.Sweep{SiteID: site, State: store.Done, Ranges: "10.0.0.0/8", Ports: "telling", Vantage: "bench0", Began: time.Date(2026, 11, 2, 9, 0, 0, 0, time.UTC).AddDate(0, 0, int(visit))}
	record.Ended = record.Began.Add(time.Minute)
	if err := st.CreateSweep(ctx, &record); err != nil {
		return record, err
	}
	batch := make([]evidence.Sighting, 0, 1000)
	for i := range devices {
		batch = append(batch, evidence.Sighting{
			Addr: netip.AddrFrom4([4]byte{10, byte(i >> 16), byte(i >> 8), byte(i)}), MAC: macOf(i), Answered: true, Whole: true, FirstAt: record.Began.Add(time.Duration(i%5000) * time.Millisecond),
			Items: saying(i, visit, record.Began),
		})
		if len(batch) == cap(batch) || i == devices-1 {
			if _, err := st.SaveSightings(ctx, record.ID, batch); err != nil {
				return record, err
			}
			batch = batch[:0]
		}
	}
	return record, nil
}

// heapLimit is what the program is let have of 512 MiB, beside its own text.
const heapLimit = 470 << 20

// grownFigures are what is measured of a ledger that grows.
type grownFigures struct {
	note, entering, memory, bytes, search float64
}

var grown = sync.OnceValues(measureGrown)

// ofGrown gives one of the figures; all are measured in one run.
func ofGrown(pick func(grownFigures) float64) func() (float64, error) {
	return func() (float64, error) {
		f, err := grown()
		return pick(f), err
	}
}

// measureGrown enters two sweeps of 100,000 devices, of which one in a hundred has changed, into the ledger of a service's database, and
// asks the service.
func measureGrown() (f grownFigures, err error) {
	ctx := context.Background()
	server, dir, end, err := database(ctx)
	if err != nil {
		return f, err
	}
	defer end()
	st, err := store.Open(ctx, server.DSN())
	if err != nil {
		return f, err
	}
	defer st.Close()
	site := store.Site{Name: "bench"}
	if err := st.CreateSite(ctx, &site); err != nil {
		return f, err
	}
	first, err := visit(ctx, st, site.ID, many, 0)
	if err != nil {
		return f, err
	}
	if err := st.ApplySweep(ctx, &first, entering(&first), settling); err != nil {
		return f, err
	}
	before, err := tableBytes(ctx, server.DSN(), "sightings", "fact_sets", "sweep_devices")
	if err != nil {
		return f, err
	}
	second, err := visit(ctx, st, site.ID, many, 1)
	if err != nil {
		return f, err
	}
	debug.SetMemoryLimit(heapLimit)
	peak := watchMemory()
	start := time.Now()
	if err := st.ApplySweep(ctx, &second, entering(&second), settling); err != nil {
		return f, err
	}
	f.entering, f.memory = time.Since(start).Seconds()/25, float64(peak())/(512<<20)
	debug.SetMemoryLimit(-1)
	after, err := tableBytes(ctx, server.DSN(), "sightings", "fact_sets", "sweep_devices")
	if err != nil {
		return f, err
	}
	f.bytes = float64(after-before) / many / 200
	// A service judges behind each sweep; here nothing was judged yet.
	if err := books.New(st, identify.Default()).Judge(ctx, site.ID); err != nil {
		return f, err
	}
	return f, f.ask(ctx, server, dir, site.ID)
}

// ask measures what a person waits for.
func (f *grownFigures) ask(ctx context.Context, server *store.Server, dir string, site uint64) error {
	in, err := service.Run(ctx, service.InstanceConfig{Data: filepath.Join(dir, "service"), Listen: "127.0.0.1:0", DSN: server.DSN(), Vantages: service.FixedVantages{}})
	if err != nil {
		return err
	}
	defer in.Close()
	token, err := client.Local(filepath.Join(dir, "service")).CreateToken(ctx, "bench", 1)
	if err != nil {
		return err
	}
	cl := client.Over(http.DefaultClient, in.URL, token.Secret)
	page, err := cl.Devices(ctx, site, client.DeviceQuery{Limit: 100})
	if err != nil {
		return err
	}
	note, err := p95(60, func(i int) error { return cl.SetNote(ctx, page.Items[i].ID, "seen by the bench "+strconv.Itoa(i)) })
	if err != nil {
		return err
	}
	search, err := p95(120, func(i int) error {
		list, err := cl.Devices(ctx, site, client.DeviceQuery{Filter: url.Values{"text": {[]string{"printer-70", "e7j0012", "10.1.4", "laser hl-9", "bench 7", "00:00:01:00:4"}[i%6]}}, Limit: 100})
		if err == nil && list.Counted() == 0 {
			err = fmt.Errorf("search %d found nothing", i)
		}
		return err
	})
	f.note, f.search = note.Seconds()/0.03, search.Seconds()/0.15
	return err
}

// p95 gives the 95th percentile of how long something takes.
func p95(times int, do func(i int) error) (time.Duration, error) {
	took := make([]time.Duration, times)
	for i := range took {
		start := time.Now()
		if err := do(i); err != nil {
			return 0, err
		}
		took[i] = time.Since(start)
	}
	slices.Sort(took)
	return took[times*95/100], nil
}

// tableBytes gives what tables take on disk.
func tableBytes(ctx context.Context, dsn string, tables ...string) (uint64, error) {
	db, err := sql.Open("mysql", dsn)
	if err != nil {
		return 0, err
	}
	defer db.Close()
	var sum uint64
	for _, table := range tables {
		var name, kind, status, text sql.NullString
		if err := db.QueryRowContext(ctx, "ANALYZE TABLE "+table).Scan(&name, &kind, &status, &text); err != nil {
			return 0, err
		}
		var bytes uint64
		if err := db.QueryRowContext(ctx, "SELECT data_length + index_length FROM information_schema.tables WHERE table_schema = DATABASE() AND table_name = ?", table).Scan(&bytes); err != nil {
			return 0, err
		}
		sum += bytes
	}
	return sum, nil
}

// watchMemory looks at what the process takes of the machine's memory until it is called, and gives the most, in bytes.
func watchMemory() (peak func() uint64) {
	stop, most := make(chan struct{}), make(chan uint64)
	debug.FreeOSMemory()
	go func() {
		var max uint64
		tick := time.NewTicker(20 * time.Millisecond)
		defer tick.Stop()
		for {
			select {
			case <-tick.C:
				if now := resident(); now > max {
					max = now
				}
			case <-stop:
				most <- max
				return
			}
		}
	}()
	return func() uint64 { close(stop); return <-most }
}

// resident gives the resident set of the process, in bytes (proc(5), statm).
func resident() uint64 {
	text, err := os.ReadFile("/proc/self/statm")
	if err != nil {
		return 0
	}
	pages, _ := strconv.ParseUint(strings.Fields(string(text))[1], 10, 64)
	return pages * uint64(os.Getpagesize())
}

// rebuilt gives 8,000 sightings a second over how many are read of 30 sweeps of 20,000; meanwhile asks for pages of another site.
type rebuiltFigures struct{ rate, memory, pages float64 }

var rebuiltOnce = sync.OnceValues(measureRebuilt)

func ofRebuilt(pick func(rebuiltFigures) float64) func() (float64, error) {
	return func() (float64, error) {
		f, err := rebuiltOnce()
		return pick(f), err
	}
}

func measureRebuilt() (f rebuiltFigures, err error) {
	ctx := context.Background()
	server, dir, end, err := database(ctx)
	if err != nil {
		return f, err
	}
	defer end()
	other, err := fillLedger(ctx, server.DSN())
	if err != nil {
		return f, err
	}
	st, err := store.Open(ctx, server.DSN())
	if err != nil {
		return f, err
	}
	defer st.Close()
	site := store.Site{Name: "rebuilt"}
	if err := st.CreateSite(ctx, &site); err != nil {
		return f, err
	}
	const sweeps, devices = 30, 20_000
	for i := range uint32(sweeps) {
		record, err := visit(ctx, st, site.ID, devices, i)
		if err == nil {
			err = st.ApplySweep(ctx, &record, entering(&record), settling)
		}
		if err != nil {
			return f, err
		}
	}
	in, err := service.Run(ctx, service.InstanceConfig{Data: filepath.Join(dir, "service"), Listen: "127.0.0.1:0", DSN: server.DSN(), Vantages: service.FixedVantages{}})
	if err != nil {
		return f, err
	}
	defer in.Close()
	token, err := client.Local(filepath.Join(dir, "service")).CreateToken(ctx, "bench", 1)
	if err != nil {
		return f, err
	}
	cl := client.Over(http.DefaultClient, in.URL, token.Secret)
	debug.SetMemoryLimit(heapLimit)
	defer debug.SetMemoryLimit(-1)
	peak := watchMemory()
	done := make(chan error, 1)
	start := time.Now()
	var took time.Duration
	go func() {
		err := st.Rebuild(ctx, site.ID, 0, store.Rebuilding{
			Enter:  entering,
			Match:  func(d []ledger.Device) []ledger.Device { return d },
			Settle: settling, Lock: func(context.Context) (func(), error) { return func() {}, nil },
		})
		took = time.Since(start)
		done <- err
	}()
	var pages []time.Duration
	cursor := ""
	for running := true; running; {
		select {
		case err = <-done:
			running = false
		default:
			at := time.Now()
			page, err := cl.Devices(ctx, other, client.DeviceQuery{Filter: url.Values{"sort": {"name"}}, Limit: 100, Cursor: cursor})
			if err != nil {
				return f, err
			}
			cursor = page.Next
			pages = append(pages, time.Since(at))
			time.Sleep(20 * time.Millisecond) // as somebody who looks at a page, and not a flood
		}
	}
	if err != nil {
		return f, err
	}
	slices.Sort(pages)
	f.rate = sweeps * devices / took.Seconds() / 8000
	f.memory = float64(peak()) / (512 << 20)
	f.pages = pages[len(pages)*95/100].Seconds() / 0.1
	return f, nil
}
