package main

import (
	"bufio"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	_ "github.com/go-sql-driver/mysql" // the driver by which the bulk load is asked for

	"airdrift/client"
	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/identify"
	"airdrift/core/ledger"
	"airdrift/core/netrange"
	"airdrift/service"
	"airdrift/store"
)

const many = 100_000

// manySightings makes sightings as a sweep of a very large site gives them.
func manySightings(began time.Time) []evidence.Sighting { return someSightings(began, many) }

func someSightings(began time.Time, devices uint32) []evidence.Sighting {
	sightings := make([]evidence.Sighting, devices)
	for i := range devices {
		mac := hwaddr.MAC{0x00, 0x00, 0x01, byte(i >> 16), byte(i >> 8), byte(i)}
		sightings[i] = evidence.Sighting{
			Addr: netip.AddrFrom4([4]byte{10, byte(i >> 16), byte(i >> 8), byte(i)}), MAC: mac, Answered: true, Whole: true, FirstAt: began, Items: facts(mac.String()),
		}
	}
	return sightings
}

// database starts a server in a directory of its own; end removes both.
func database(ctx context.Context) (server *store.Server, dir string, end func(), err error) {
	if dir, err = os.MkdirTemp("", "airdrift-bench-"); err != nil {
		return nil, "", nil, err
	}
	if err = os.Chmod(dir, 0o711); err == nil { // the database's user must pass through
		server, err = store.StartServer(ctx, filepath.Join(dir, "database"))
	}
	if err != nil {
		_ = os.RemoveAll(dir)
		return nil, "", nil, err
	}
	return server, dir, func() {
		_ = server.Stop()
		_ = os.RemoveAll(dir)
	}, nil
}

// newSweep enters a site and a sweep of it that has seen nothing yet.
func newSweep(ctx context.Context, st *store.Store, state store.SweepState) (store.Sweep, error) {
	site := store.Site{Name: "bench"}
	if err := st.CreateSite(ctx, &site); err != nil {
		return store.Sweep{}, err
	}
	record := store.Sweep{SiteID: site.ID, State: state, Began: time.Now().UTC()}
	err := st.CreateSweep(ctx, &record) // numbers the record
	return record, err
}

// storing writes sightings as a sweep does, and loads the same rows by the server's own bulk load.
func storing() (float64, error) {
	ctx := context.Background()
	server, dir, end, err := database(ctx)
	if err != nil {
		return 0, err
	}
	defer end()
	st, err := store.Open(ctx, server.DSN())
	if err != nil {
		return 0, err
	}
	defer st.Close()
	record, err := newSweep(ctx, st, store.Running)
	if err != nil {
		return 0, err
	}
	sightings := manySightings(record.Began)
	start := time.Now()
	for batch := range slices.Chunk(sightings, 1000) { // about what a quarter of a second brings
		if _, err := st.SaveSightings(ctx, record.ID, batch); err != nil {
			return 0, err
		}
	}
	own := time.Since(start)
	bulk, err := bulkLoad(dir, record.ID, sightings)
	if err != nil {
		return 0, err
	}
	return own.Seconds() / bulk.Seconds(), nil
}

// bulkLoad times LOAD DATA INFILE into a table of the same shape.
func bulkLoad(dir string, sweep uint64, sightings []evidence.Sighting) (time.Duration, error) {
	if os.Geteuid() != 0 {
		return 0, errors.New("only root is let in by the server's socket, and may have it read a file: run the bench as root")
	}
	path := filepath.Join(dir, "database", "tmp", "rows.tsv") // the server reads files from there alone
	if err := writeRows(path, sweep, sightings); err != nil {
		return 0, err
	}
	db, err := sql.Open("mysql", fmt.Sprintf("root@unix(%s)/airdrift", filepath.Join(dir, "database", "run", "server.sock")))
	if err != nil {
		return 0, err
	}
	defer db.Close()
	if _, err := db.Exec("CREATE TABLE drafts_bulk LIKE drafts"); err != nil {
		return 0, err
	}
	start := time.Now()
	result, err := db.Exec("LOAD DATA INFILE '" + path + "' INTO TABLE drafts_bulk (sweep_id, @addr, @mac, unit, ring, learned_from, answered, whole, first_at, @facts, @passing, @fact_set) " +
		"SET addr = UNHEX(@addr), mac = UNHEX(@mac), facts = UNHEX(@facts), passing = UNHEX(@passing), fact_set = UNHEX(@fact_set)")
	if err != nil {
		return 0, err
	}
	took := time.Since(start)
	if n, err := result.RowsAffected(); err != nil || n != int64(len(sightings)) {
		return 0, fmt.Errorf("the bulk load took %d rows, %v", n, err)
	}
	return took, nil
}

func writeRows(path string, sweep uint64, sightings []evidence.Sighting) error {
	file, err := os.Create(path)
	if err != nil {
		return err
	}
	defer file.Close()
	out := bufio.NewWriter(file)
	for _, s := range sightings {
		packed := evidence.Pack(s.Items, s.FirstAt)
		a := s.Addr.As16()
		fmt.Fprintf(out, "%d\t%x\t%x\t\t0\t\t1\t1\t%s\t%x\t%x\t%x\n", sweep, a[:], s.MAC[:], s.FirstAt.Format("2006-01-02 15:04:05.000000"), packed.Hash[:], packed.Passing, packed.Set)
	}
	if err := out.Flush(); err != nil {
		return err
	}
	return file.Chmod(0o644)
}

// listPage gives the 95th percentile of fetching a page of 100,000 devices over HTTP, over 50 ms.
func listPage() (float64, error) {
	ctx := context.Background()
	server, dir, end, err := database(ctx)
	if err != nil {
		return 0, err
	}
	defer end()
	site, err := fillLedger(ctx, server.DSN())
	if err != nil {
		return 0, err
	}
	in, err := service.Run(ctx, service.InstanceConfig{
		Data: filepath.Join(dir, "service"), Listen: "127.0.0.1:0", DSN: server.DSN(), Vantages: service.FixedVantages{},
	})
	if err != nil {
		return 0, err
	}
	defer in.Close()
	token, err := client.Local(filepath.Join(dir, "service")).CreateToken(ctx, "bench", 1)
	if err != nil {
		return 0, err
	}
	cl := client.Over(http.DefaultClient, in.URL, token.Secret) // over HTTP, as the console goes
	var queries []client.DeviceQuery
	for _, filter := range []string{
		"", "sort=name", "sort=vendor&descend=true", "sort=lastSeen&descend=true", "sort=kind", "standing=unmanaged", "standing=unmanaged&sort=model", "kind=printer&sort=name", "presence=seen",
	} {
		values, err := url.ParseQuery(filter)
		if err != nil {
			return 0, err
		}
		queries = append(queries, client.DeviceQuery{Filter: values})
	}
	var took []time.Duration
	for i := range 180 { // each list is leafed through, the first page twice
		q := &queries[i%len(queries)]
		q.Limit = 100
		start := time.Now()
		list, err := cl.Devices(ctx, site, *q)
		if err != nil || q.Cursor == "" && list.Counted() == 0 || len(list.Items) != 100 {
			return 0, fmt.Errorf("query %+v gave %d of %d devices, %w", *q, len(list.Items), list.Counted(), err)
		}
		took = append(took, time.Since(start))
		if q.Cursor = list.Next; i%20 == 19 {
			q.Cursor = ""
		}
	}
	slices.Sort(took)
	return took[len(took)*95/100].Seconds() / 0.05, nil
}

// fillLedger enters a sweep of 100,000 sightings into a site's ledger.
func fillLedger(ctx context.Context, dsn string) (uint64, error) {
	return fillLedgerWith(ctx, dsn, many)
}

func fillLedgerWith(ctx context.Context, dsn string, devices uint32) (uint64, error) {
	st, err := store.Open(ctx, dsn)
	if err != nil {
		return 0, err
	}
	defer st.Close()
	record, err := newSweep(ctx, st, store.Done)
	if err != nil {
		return 0, err
	}
	if _, err := st.SaveSightings(ctx, record.ID, someSightings(record.Began, devices)); err != nil {
		return 0, err
	}
	return record.SiteID, st.ApplySweep(ctx, &record, entering(&record), settling)
}

var engine = sync.OnceValue(func() *identify.Engine { return identify.New(identify.Default(), nil) })

// entering enters a sweep as the service does.
func entering(record *store.Sweep) store.Enter {
	return func(shelf ledger.Shelf, seen *store.Seen, before []uint64) (ledger.Result, error) {
		return ledger.Enter(shelf, ledger.Sweep{
			ID: record.ID, Began: record.Began, Covered: netrange.FromPrefixes(netip.MustParsePrefix("10.0.0.0/8")), Sightings: seen.Sightings, Hashes: seen.Hashes, Facts: seen.Facts, Devices: before,
		}, engine())
	}
}

func settling(shelf ledger.Shelf, result *ledger.Result) ([]uint64, error) {
	return result.Settle(shelf, ledger.Said{})
}
