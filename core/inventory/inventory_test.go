package inventory

import (
	"errors"
	"net/netip"
	"net/url"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"airdrift/core/hwaddr"
	"airdrift/core/identify"
	"airdrift/core/ledger"
	"airdrift/core/register"
)

// seen is a device with something in every field.
func seen() ledger.Device {
	return ledger.Device{
		ID: 7, Addrs: []netip.Addr{netip.MustParseAddr("10.9.0.5"), netip.MustParseAddr("fe80::5")}, MACs: []hwaddr.MAC{hwaddr.MustParse("48:9b:34:00:00:05")}, Unit: "modbus/7 behind 10.9.0.5",
		Identity: identify.Beliefs{{Attribute: identify.Kind, Value: "printer", Strength: 14}, {Attribute: identify.Vendor, Value: "Marrowby Print", Strength: 12}, {Attribute: identify.Model, Value: "Inkwell 220"},
			{Attribute: identify.OS, Value: "inkd"}, {Attribute: identify.Firmware, Value: "5.0"}, {Attribute: identify.Serial, Value: "MB-1234"}, {Attribute: identify.Name, Value: "hall-printer"}, {Attribute: identify.Location, Value: "Herbarium"}},
		FirstSeen: time.Unix(1000, 0), LastSeen: time.Unix(2000, 0), Presence: ledger.Seen, Standing: ledger.Managed, Group: "hall", Contested: []netip.Addr{netip.MustParseAddr("10.9.0.5")},
		Traits: []ledger.Trait{ledger.OwnMachine}, Entry: &register.Entry{Name: "desk", Responsible: "office"},
	}
}

// Every field is named, headed and read once, and what it says of itself holds together.
func TestTheCatalogueHoldsTogether(t *testing.T) {
	names, keys := map[string]bool{}, map[string]bool{}
	line := LineOf(seen())
	for _, f := range Fields {
		if f.Name == "" || f.Heading == "" || names[f.Param()] || keys[f.Key()] {
			t.Errorf("%q (%q) is named as another, or has no heading", f.Name, f.Heading)
		}
		names[f.Param()], keys[f.Key()] = true, true
		if (f.Filter == NoFilter) != (f.Only == "") {
			t.Errorf("%s: its filter is %q and lets through %q", f.Name, f.Filter, f.Only)
		}
		if f.Of == nil {
			if f.Listed || f.Sorted || f.Search != NotSearched || len(f.Shown) > 0 {
				t.Errorf("%s is shown and cannot be read", f.Name)
			}
			continue
		}
		want := map[Type]string{Text: "string", Texts: "[]string", Number: "int", Flag: "bool", Time: "time.Time"}[f.Type]
		if got := reflect.TypeOf(line.Values[f.Name]); got == nil || got.String() != want {
			t.Errorf("%s: read as %v, want %s", f.Name, got, want)
		}
		if f.Text(line.Values[f.Name]) == "" {
			t.Errorf("%s: %v has no text", f.Name, line.Values[f.Name])
		}
	}
	if f, known := Named("colour"); known || f != nil {
		t.Error("a field is made up")
	}
}

func TestFieldsOfADevice(t *testing.T) {
	missing := ledger.Device{ID: 8, Standing: ledger.Missing, Presence: ledger.Uncovered, Entry: &register.Entry{Name: "oak", Vendor: "Ravelin", Model: "R1", Kind: "toaster", Location: "attic"}}
	nameless := ledger.Device{ID: 9, FirstSeen: time.Unix(1, 0), Addrs: []netip.Addr{netip.MustParseAddr("10.9.0.9")}}
	for _, tt := range []struct {
		d           ledger.Device
		field, want string
	}{
		{seen(), "name", "desk"}, {seen(), "kind", "printer"}, {seen(), "address", "10.9.0.5 fe80::5"}, {seen(), "serial", "MB-1234"}, {seen(), "location", "Herbarium"}, {missing, "location", "attic"}, {seen(), "strength", "14"}, {seen(), "lastSeen", "1970-01-01T00:33:20Z"}, {seen(), "traits", "own machine"},
		{seen(), "contested", "true"}, {seen(), "responsible", "office"}, {missing, "name", "oak"}, {missing, "vendor", "Ravelin"}, {missing, "kind", identify.Unknown}, {missing, "lastSeen", ""}, {missing, "mac", ""}, {nameless, "name", ""},
	} {
		f, _ := Named(tt.field)
		if got := f.Text(LineOf(tt.d).Values[tt.field]); got != tt.want {
			t.Errorf("%s of device %d is %q, want %q", tt.field, tt.d.ID, got, tt.want)
		}
	}
	for d, want := range map[*ledger.Device]string{{Unit: "modbus/7 behind 10.9.0.5"}: "modbus/7 behind 10.9.0.5", &nameless: "10.9.0.9", {MACs: seen().MACs}: "48:9b:34:00:00:05", {ID: 3}: "device 3"} {
		if got := Called(*d); got != want {
			t.Errorf("it is called %q, want %q", got, want)
		}
	}
}

func TestQueries(t *testing.T) {
	q, err := ParseQuery(url.Values{
		"standing": {"unmanaged,missing"}, "vendor": {"Marrowby, Print", ""}, "contested": {"true"}, "strength": {"12"}, "severity": {"high"}, "trait": {"own machine"}, "text": {"hall 2"}, "sort": {"serial"}, "descend": {"true"},
	})
	want := Query{Where: Where{"standing": {"unmanaged", "missing"}, "vendor": {"Marrowby, Print"}, "contested": {"true"}, "strength": {"12"}, "severity": {"high"}, "trait": {"own machine"}}, Text: "hall 2", Sort: "serial", Descend: true}
	if err != nil || !reflect.DeepEqual(q, want) {
		t.Errorf("%+v, %v", q, err)
	}
	if q, err := ParseQuery(url.Values{"standing": {""}, "contested": {"false"}, "strength": {"0"}, "descend": {"false"}}); err != nil || len(q.Where) != 0 || q.Descend {
		t.Errorf("what says nothing narrows the list: %+v, %v", q, err)
	}
	over := Query{Where: Where{"vendor": {"Ravelin"}}, Sort: "name"}.Over(q)
	if !slices.Equal(over.Where["vendor"], []string{"Ravelin"}) || len(over.Where["standing"]) != 2 || over.Sort != "name" || over.Text != "hall 2" || len(q.Where["vendor"][0]) != 15 {
		t.Errorf("laid over it is %+v, and it is %+v", over, q)
	}
	for text, want := range map[string]string{
		"colour=red": `devices have no "colour"`, "standing=lost": `there is no "lost": want one of managed, unmanaged, missing, set aside`, "strength=-1": "no number from 0 to 1000", "strength=x": "no number", "contested=maybe": "neither true nor false",
		"sort=colour": `there is no "colour"`, "text=" + strings.Repeat("x", 201): "more than 200", "kind=toaster": `there is no "toaster"`, "trait=nice": `there is no "nice"`,
	} {
		values, err := url.ParseQuery(text)
		if err != nil {
			t.Fatal(err)
		}
		_, err = ParseQuery(values)
		if fault := (*FaultyParameter)(nil); !errors.As(err, &fault) || !strings.Contains(err.Error(), want) || !strings.HasPrefix(text, fault.Name) {
			t.Errorf("%.40s: %v, want %s", text, err, want)
		}
	}
}

// A query is read from any address without harm, and what was read says the same when it is read again.
func FuzzParseQuery(f *testing.F) {
	f.Add("standing=unmanaged,missing&vendor=a%2Cb&text=hall&sort=name")
	f.Add("kind=&strength=1e9&contested=1&trait=own machine&severity=low")
	f.Fuzz(func(t *testing.T, text string) {
		values, err := url.ParseQuery(text)
		if err != nil {
			return
		}
		q, err := ParseQuery(values)
		if err != nil {
			return
		}
		again := url.Values{}
		for name, given := range q.Where {
			again[name] = given
		}
		if same, err := ParseQuery(again); err != nil || !reflect.DeepEqual(same.Where, q.Where) {
			t.Errorf("%q is read as %v, and that as %v, %v", text, q.Where, same.Where, err)
		}
	})
}
