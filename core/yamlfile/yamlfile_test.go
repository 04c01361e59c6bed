package yamlfile

import (
	"errors"
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
