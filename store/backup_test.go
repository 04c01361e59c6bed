package store_test

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"database/sql"
	"encoding/json"
	"slices"
	"testing"

	"airdrift/store"
	"airdrift/store/storetest"
)

// A backup has all tables that there are, whichever a later version adds, and what people have set is there again.
func TestABackupHasEveryTable(t *testing.T) {
	dsn := storetest.DSN(t)
	s, err := store.Open(t.Context(), dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	site := newSite(t, s)
	if err := s.WantFirmware(t.Context(), store.WantedFirmware{SiteID: site.ID, Vendor: "Ravelin", Model: "R1", Version: "2.1"}); err != nil {
		t.Fatal(err)
	}
	var backup bytes.Buffer
	if err := s.Backup(t.Context(), &backup); err != nil {
		t.Fatal(err)
	}
	if got, want := tablesIn(t, backup.Bytes()), tablesThere(t, dsn); !slices.Equal(got, want) || len(want) < 40 {
		t.Errorf("the backup has the tables %v, and there are %v", got, want)
	}
	other := storetest.Open(t)
	if err := other.Restore(t.Context(), &backup); err != nil {
		t.Fatal(err)
	}
	if wanted, err := other.WantedFirmwares(t.Context(), site.ID); err != nil || len(wanted) != 1 || wanted[0].Version != "2.1" {
		t.Errorf("restored, %+v is wanted, %v", wanted, err)
	}
}

// tablesIn gives the tables of a backup.
func tablesIn(t *testing.T, backup []byte) (tables []string) {
	t.Helper()
	unpacked, err := gzip.NewReader(bytes.NewReader(backup))
	if err != nil {
		t.Fatal(err)
	}
	for lines := bufio.NewScanner(unpacked); lines.Scan(); {
		var line struct{ Table string }
		if err := json.Unmarshal(lines.Bytes(), &line); err != nil {
			t.Fatal(err)
		}
		if line.Table != "" {
			tables = append(tables, line.Table)
		}
	}
	slices.Sort(tables)
	return tables
}

// tablesThere gives the tables of a database, but for that of the migrations.
func tablesThere(t *testing.T, dsn string) (tables []string) {
	t.Helper()
	db, err := sql.Open("mysql", dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	rows, err := db.QueryContext(t.Context(), "SHOW TABLES")
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			t.Fatal(err)
		}
		if name != "migrations" {
			tables = append(tables, name)
		}
	}
	slices.Sort(tables)
	return tables
}
