package main

import (
	"bytes"
	"compress/gzip"
	"io"
	"strings"
	"testing"
)

func TestCompact(t *testing.T) {
	table, err := compact(map[string]string{
		"0055DA0": "Shinko  Technos co.,ltd.\nstreet\ntown", "000001": "XEROX CORPORATION\nM/S 105", "70B3D5001": "Small\tBlock",
	})
	if err != nil {
		t.Fatal(err)
	}
	zip, err := gzip.NewReader(bytes.NewReader(table))
	if err != nil {
		t.Fatal(err)
	}
	text, err := io.ReadAll(zip)
	want := "000001\tXEROX CORPORATION\n0055da0\tShinko Technos co.,ltd.\n70b3d5001\tSmall Block\n"
	if err != nil || string(text) != want {
		t.Errorf("the table is %q, %v; want %q", text, err, want)
	}
	if _, err := compact(map[string]string{"00000": "x"}); err == nil || !strings.Contains(err.Error(), `"00000"`) {
		t.Errorf("a prefix of a strange length gave %v", err)
	}
}

func TestRunTellsHowToGetTheSource(t *testing.T) {
	if err := run("gone.json", t.TempDir()+"/x"); err == nil || !strings.Contains(err.Error(), "make registry") {
		t.Errorf("got %v", err)
	}
}

func TestCompactEnterprises(t *testing.T) {
	list := "PRIVATE ENTERPRISE NUMBERS\n\nPrefix: iso\n\nDecimal\n| Organization\n0\n  Reserved\n    Somebody\n      some&body\n9\n  ciscoSystems\n    A\n      b&c\n10\n  Two  spaces\n"
	table, err := compactEnterprises([]byte(list))
	if err != nil {
		t.Fatal(err)
	}
	zip, err := gzip.NewReader(bytes.NewReader(table))
	if err != nil {
		t.Fatal(err)
	}
	text, err := io.ReadAll(zip)
	if want := "0\tReserved\n9\tciscoSystems\n10\tTwo spaces\n"; err != nil || string(text) != want {
		t.Errorf("%q, %v; want %q", text, err, want)
	}
}
