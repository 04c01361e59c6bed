// Package storetest gives tests a real database of their own on a server that all tests of a package share.
package storetest

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"sync/atomic"
	"testing"

	"github.com/go-sql-driver/mysql"

	"airdrift/store"
)

var (
	server *store.Server
	number atomic.Int64
)

// Main starts the server, runs a package's tests and stops it; TestMain calls it.
func Main(m *testing.M) {
	os.Exit(run(m))
}

func run(m *testing.M) int {
	dir, err := os.MkdirTemp("", "airdrift-storetest-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer os.RemoveAll(dir)
	if server, err = store.StartServer(context.Background(), dir); err != nil {
		fmt.Fprintln(os.Stderr, "start a database for the tests:", err)
		return 1
	}
	defer server.Stop()
	return m.Run()
}

// DSN makes an empty database and gives its address.
func DSN(t testing.TB) string {
	t.Helper()
	name := fmt.Sprintf("airdrift_test_%d", number.Add(1))
	db, err := sql.Open("mysql", server.DSN())
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("CREATE DATABASE " + name + " CHARACTER SET utf8mb4 COLLATE utf8mb4_unicode_ci"); err != nil {
		t.Fatal(err)
	}
	config, err := mysql.ParseDSN(server.DSN())
	if err != nil {
		t.Fatal(err)
	}
	config.DBName = name
	return config.FormatDSN()
}

// Open makes an empty database and opens it.
func Open(t testing.TB) *store.Store {
	t.Helper()
	s, err := store.Open(t.Context(), DSN(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Close() })
	return s
}
