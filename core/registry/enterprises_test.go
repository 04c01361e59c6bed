package registry

import (
	"bytes"
	"compress/gzip"
	"testing"
)

func TestEnterprises(t *testing.T) {
	if n := Enterprises(); n < 55_000 {
		t.Errorf("only %d enterprises are known", n)
	}
	for number, want := range map[uint32]string{9: "ciscoSystems", 2435: "Brother Industries, Ltd.", 8072: "net-snmp", 0: "", 99999: "", 4294967295: ""} {
		if got := Enterprise(number); got != want {
			t.Errorf("%d is %q, want %q", number, got, want)
		}
	}
}

func TestBrokenListsAreRefused(t *testing.T) {
	if _, err := unpackEnterprises([]byte("not packed")); err == nil {
		t.Error("what is not packed was read")
	}
	var packed bytes.Buffer
	zip := gzip.NewWriter(&packed)
	if _, err := zip.Write([]byte("nine\tSomebody\n")); err != nil {
		t.Fatal(err)
	}
	if err := zip.Close(); err != nil {
		t.Fatal(err)
	}
	if _, err := unpackEnterprises(packed.Bytes()); err == nil {
		t.Error("a number in words was read")
	}
}
