package register

import (
	"errors"
	"net/netip"
	"strings"
	"testing"

	"airdrift/core/fault"
	"airdrift/core/hwaddr"
)

func TestReadAnyOrderAndSeparator(t *testing.T) {
	want := Entry{Name: "palm house climate", MAC: hwaddr.MustParse("48:9b:34:01:02:03"), Addr: netip.MustParseAddr("10.40.2.10")}
	for _, text := range []string{
		"name,mac,address\npalm house climate,48:9b:34:01:02:03,10.40.2.10\n",
		"IP address;Device name;MAC Address\r\n10.40.2.10;palm house climate;48-9B-34-01-02-03\r\n",
		"\xef\xbb\xbfHost\tPhysical address\tIP\npalm house climate\t489b.3401.0203\t10.40.2.10\n",
		"name,mac,address\n\n \"palm house climate\", 489b34010203 ,\"10.40.2.10\"\n",
	} {
		got, err := Read("x.csv", strings.NewReader(text))
		if err != nil || len(got) != 1 || got[0].Name != want.Name || got[0].MAC != want.MAC || got[0].Addr != want.Addr {
			t.Errorf("%q reads as %+v, %v", text, got, err)
		}
	}
}

func TestReadKeepsColumnsOfTheSite(t *testing.T) {
	got, err := Read("x.csv", strings.NewReader("name,Key cabinet\nvault door,K7\n"))
	if err != nil || got[0].Extra["Key cabinet"] != "K7" {
		t.Errorf("got %+v, %v", got, err)
	}
}

func TestReadTellsEveryFaultWithItsPlace(t *testing.T) {
	text := "name,mac,address\n" +
		"a,48:9b:34:01:02:03,10.40.2.10\n" +
		"b,48:9b:34:01:02,10.40.2.11\n" +
		"c,,10.40.2.300\n" +
		"d,48:9b:34:01:02:03,\n" +
		",,\n" +
		"e,48:9b:34:01:02:05\n" +
		"f,ff:ff:ff:ff:ff:ff,\n" +
		"\xff,,10.40.2.12\n"
	entries, err := Read("x.csv", strings.NewReader(text))
	var list *fault.List
	if !errors.As(err, &list) || entries != nil {
		t.Fatalf("got %v entries and %v, want none and a list of faults", entries, err)
	}
	want := []struct {
		line, column int
		why          string
	}{
		{3, 2, "not a MAC address"}, {4, 3, "not an IP address"}, {5, 0, "line 2 already"}, {6, 0, "names no device"},
		{7, 0, "2 fields"}, {8, 2, "not the MAC address of one device"}, {9, 1, "UTF-8"},
	}
	if len(list.Faults) != len(want) {
		t.Fatalf("got %d faults, want %d:\n%v", len(list.Faults), len(want), err)
	}
	for i, w := range want {
		f := list.Faults[i]
		if f.Line != w.line || f.Column != w.column || !strings.Contains(f.Why, w.why) {
			t.Errorf("fault %d is %q, want line %d, column %d, saying %q", i, f, w.line, w.column, w.why)
		}
	}
}

func TestReadRefusesWholeFiles(t *testing.T) {
	for text, why := range map[string]string{
		"":                         "empty",
		"colour,weight\nred,3\n":   "which device",
		"name,device\na,b\n":       "means the same",
		"name,mac\n":               "no device",
		"name\n\"unclosed\nand on": "not CSV",
	} {
		if _, err := Read("x.csv", strings.NewReader(text)); err == nil || !strings.Contains(err.Error(), why) {
			t.Errorf("%q gave %v, want a fault saying %q", text, err, why)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add("name,mac,address\na,48:9b:34:01:02:03,10.40.2.10\n")
	f.Add("ip;x\n\"1.2.3.4\";y")
	f.Fuzz(func(t *testing.T, text string) {
		entries, err := Read("", strings.NewReader(text))
		if (err == nil) == (len(entries) == 0) {
			t.Errorf("%d entries and error %v", len(entries), err)
		}
		for _, e := range entries {
			if e.Name == "" && e.MAC.IsZero() && !e.Addr.IsValid() {
				t.Errorf("an entry that names nothing was taken from %q", text)
			}
		}
	})
}
