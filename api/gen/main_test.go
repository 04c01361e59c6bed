package main

import (
	"bytes"
	"os"
	"testing"
)

// The types in the package api are those that the catalogue of fields makes; make api writes them anew.
func TestTypesAreCurrent(t *testing.T) {
	want, err := types()
	if err != nil {
		t.Fatal(err)
	}
	if got, err := os.ReadFile("../devicefields.go"); err != nil || !bytes.Equal(got, want) {
		t.Errorf("api/devicefields.go is not what the catalogue says (%v): run make api", err)
	}
}
