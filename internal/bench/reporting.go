package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"path/filepath"
	"time"

	"airdrift/books"
	"airdrift/client"
	"airdrift/core/identify"
	"airdrift/service"
	"airdrift/store"
)

// largest is how large a report of 1,000 devices may be, in bytes.
const largest = 20 << 20

// reportTime gives how long the slowest form of the report of a site with so many devices takes, from asking the service until all of it is there, over a
// number of seconds.
func reportTime(devices uint32, seconds float64) (float64, error) {
	ctx := context.Background()
	server, dir, end, err := database(ctx)
	if err != nil {
		return 0, err
	}
	defer end()
	site, err := judgedSite(ctx, server.DSN(), devices)
	if err != nil {
		return 0, err
	}
	in, err := service.Run(ctx, service.InstanceConfig{Data: filepath.Join(dir, "service"), Listen: "127.0.0.1:0", DSN: server.DSN(), Vantages: service.FixedVantages{}})
	if err != nil {
		return 0, err
	}
	defer in.Close()
	token, err := client.Local(filepath.Join(dir, "service")).CreateToken(ctx, "bench", 1)
	if err != nil {
		return 0, err
	}
	cl := client.Over(http.DefaultClient, in.URL, token.Secret)
	found, err := cl.CountFindings(ctx, site, client.FindingQuery{})
	if err != nil || len(found) == 0 {
		return 0, errors.Join(err, errors.New("nothing is wrong at the site"))
	}
	var slowest time.Duration
	for _, form := range []string{"html", "pdf", "xlsx"} {
		var out bytes.Buffer
		began := time.Now()
		if form == "xlsx" {
			err = cl.Extract(ctx, site, client.ReportQuery{Form: form, Filter: "presence=seen"}, &out)
		} else {
			err = cl.Report(ctx, site, client.ReportQuery{Form: form}, &out)
		}
		if err != nil {
			return 0, err
		}
		took := time.Since(began)
		fmt.Printf("  %d devices as %s: %.1f s, %.1f MiB\n", devices, form, took.Seconds(), float64(out.Len())/(1<<20))
		if slowest = max(slowest, took); devices <= 1000 && out.Len() > largest {
			return 0, fmt.Errorf("a report of %d devices takes %d bytes", devices, out.Len())
		}
	}
	return slowest.Seconds() / seconds, nil
}

// judgedSite makes a site of so many devices, and has it judged.
func judgedSite(ctx context.Context, dsn string, devices uint32) (uint64, error) {
	site, err := fillLedgerWith(ctx, dsn, devices)
	if err != nil {
		return 0, err
	}
	st, err := store.Open(ctx, dsn)
	if err != nil {
		return 0, err
	}
	defer st.Close()
	return site, books.New(st, identify.Default()).Judge(ctx, site)
}
