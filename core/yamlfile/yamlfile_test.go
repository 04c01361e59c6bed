package yamlfile

import (
	"errors"
	"fmt"
	"runtime"
	"strings"
	"testing"

	"airdrift/core/fault"
)

type sample struct {
	Name  string `yaml:"name"`
	Items []struct {
		MAC  string `yaml:"mac"`
		Port int    `yaml:"port"`
	} `yaml:"items"`
}

const good = "name: x\nitems:\n  - mac: aa\n    port: 80\n  - {mac: bb, port: 81}\n"

func TestRefusePointsAtTheValue(t *testing.T) {
	var into sample
	doc, err := Read("x.yaml", []byte(good), &into)
	if err != nil || into.Items[1].MAC != "bb" {
		t.Fatalf("Read gave %+v, %v", into, err)
	}
	tests := []struct {
		path         string
		line, column int
	}{
		{"$.items[0].mac", 3, 10},
		{"$.items[1].port", 5, 21},
		{"$.items[0].absent", 3, 5},
		{"$.name", 1, 7},
	}
	for i, tt := range tests {
		doc.Refuse(tt.path, "wrong")
		got := doc.Faults.Faults[i]
		if got.Line != tt.line || got.Column != tt.column {
			t.Errorf("%s is placed at %d:%d, want %d:%d", tt.path, got.Line, got.Column, tt.line, tt.column)
		}
	}
}

func TestReadPlacesFaults(t *testing.T) {
	tests := []struct {
		text string
		line int
	}{
		{"name: x\nnmae: y\n", 2},
		{"name: x\nitems:\n  - mac: aa\n    port: many\n", 4},
		{"name: [x\n", 1},
		{"", 0},
	}
	for _, tt := range tests {
		var into sample
		_, err := Read("x.yaml", []byte(tt.text), &into)
		var list *fault.List
		if !errors.As(err, &list) || len(list.Faults) != 1 {
			t.Errorf("%q gave %v, want one fault", tt.text, err)
			continue
		}
		if list.Faults[0].Line != tt.line {
			t.Errorf("%q: fault in line %d, want %d: %v", tt.text, list.Faults[0].Line, tt.line, err)
		}
	}
}

// Short files that nest without end, or stand for far more than they hold, are refused before they cost anything.
func TestHostileFilesCostLittle(t *testing.T) {
	deep := func(n int) string {
		var text strings.Builder
		for i := range n {
			fmt.Fprintf(&text, "%s- \n", strings.Repeat(" ", i))
		}
		return text.String()
	}
	laughs := "a: &a [x, x, x, x, x, x, x, x, x, x]\n"
	for c := 'b'; c < 'j'; c++ {
		laughs += fmt.Sprintf("%c: &%[1]c [%s*%c]\n", c, strings.Repeat(fmt.Sprintf("*%c, ", c-1), 9), c-1)
	}
	for name, text := range map[string]string{
		"brackets": strings.Repeat("[", 20_000), "more brackets": strings.Repeat("[", 70_000), "braces": strings.Repeat("{a: ", 20_000),
		"brackets over lines": strings.Repeat("[\n", 20_000), "entries": strings.Repeat("- ", 20_000), "keys": strings.Repeat("? ", 20_000),
		"entries over lines": deep(900), "a long list": "[" + strings.Repeat("a,", 240_000) + "]", "aliases": laughs, "a large file": strings.Repeat("# \n", 1<<20),
	} {
		var into sample
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		_, err := Read("x.yaml", []byte(text), &into)
		runtime.ReadMemStats(&after)
		if err == nil {
			t.Errorf("%s: no error", name)
		}
		if cost := (after.TotalAlloc - before.TotalAlloc) >> 20; cost > 160 {
			t.Errorf("%s: %d bytes cost %d MiB", name, len(text), cost)
		}
	}
}
