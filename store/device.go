package store

import (
	"context"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/identify"
	"airdrift/core/ledger"
	"airdrift/core/registry"
)

// deviceRow has what lists sort and filter by in columns, and the whole device in Record.
type deviceRow struct {
	ID        uint64
	SiteID    uint64
	EntryID   uint64
	Name      string
	Addr      []byte
	MAC       string `gorm:"column:mac"`
	Kind      string
	Vendor    string
	Model     string
	OS        string `gorm:"column:os"`
	Firmware  string
	Strength  int    // of what is believed of its kind
	Services  string // what it offers, each between spaces
	Standing  string
	Presence  string
	GroupName string
	FirstSeen *time.Time
	LastSeen  *time.Time
	LastSweep uint64
	Contested bool
	Traits    bool   // it has any; which ones is in Record
	Record    string // the device in its form
	Facts     []byte
	FactsAt   *time.Time // from which the times in Passing are counted
	Passing   []byte
}

func (deviceRow) TableName() string { return "devices" }

// maxColumn is the longest text of a column, in characters.
const maxColumn = 255

// DisplayName gives the name a device is shown by: its own, or the register's.
func DisplayName(d ledger.Device) string {
	if d.Entry != nil && d.Entry.Name != "" {
		return d.Entry.Name
	}
	return d.Identity.Of(identify.Name)
}

// believed gives what evidence tells of an attribute, or for a device never seen what the register says.
func believed(d ledger.Device, a identify.Attribute) string {
	if value := d.Identity.Of(a); value != "" || d.Entry == nil || !d.FirstSeen.IsZero() {
		return value
	}
	switch a {
	case identify.Vendor:
		return d.Entry.Vendor
	case identify.Model:
		return d.Entry.Model
	case identify.Kind:
		if slices.Contains(identify.Kinds, d.Entry.Kind) {
			return d.Entry.Kind
		}
		return identify.Unknown
	}
	return ""
}

// toDeviceRow makes the row of a device that has its evidence.
func toDeviceRow(site uint64, d ledger.Device) (deviceRow, error) {
	record, err := toForm(d)
	if err != nil {
		return deviceRow{}, err
	}
	line := LineOf(d)
	row := deviceRow{
		ID: d.ID, SiteID: site, Name: cut(line.Name), Addr: []byte{}, MAC: line.MAC.String(), Kind: line.Kind,
		Vendor: cut(line.Vendor), Model: cut(line.Model), OS: cut(line.OS), Firmware: cut(line.Firmware), Strength: line.Strength,
		Services: servicesText(d), Standing: string(line.Standing),
		Presence: string(line.Presence), GroupName: cut(line.Group), LastSweep: d.LastSweep, Contested: line.Contested, Traits: len(line.Traits) > 0,
		Record: string(record), Facts: d.Facts[:], Passing: []byte{},
	}
	if d.Entry != nil {
		row.EntryID = d.Entry.ID
	}
	if len(d.Addrs) > 0 {
		row.Addr = sortable(d.Addrs[0])
	}
	if !d.FirstSeen.IsZero() {
		row.FirstSeen, row.LastSeen = &d.FirstSeen, &d.LastSeen
	}
	return row, nil
}

// size is about what a row takes in a statement, in bytes.
func (r deviceRow) size() int {
	return len(r.Record) + len(r.Services) + len(r.Passing) + 1000
}

func cut(text string) string {
	if runes := []rune(text); len(runes) > maxColumn {
		return string(runes[:maxColumn])
	}
	return text
}

// maxServices bounds the text of what a device offers, in bytes.
const maxServices = 4000

// servicesText puts what a device offers into one text: each port as tcp/80 and 80, the name of its service, and the types that it
// announces, each between spaces.
func servicesText(d ledger.Device) string {
	words := map[string]bool{}
	for _, item := range d.Items {
		switch {
		case item.Key == evidence.KeyMDNSType:
			words[strings.ToLower(item.Value)] = true
		case item.Port.IsZero() || item.Key == evidence.KeyTCPRefused || item.Key == evidence.KeyTCPSilent:
		default:
			words[item.Port.String()] = true
			words[strconv.Itoa(int(item.Port.Number))] = true
			if name := registry.ServiceName(item.Port); name != "" {
				words[name] = true
			}
		}
	}
	if len(words) == 0 {
		return ""
	}
	text := " " + strings.Join(slices.Sorted(maps.Keys(words)), " ") + " "
	if len(text) > maxServices {
		text = text[:strings.LastIndexByte(text[:maxServices], ' ')+1]
	}
	return strings.ToValidUTF8(text, "")
}

// KnownBefore gives the numbers of a site's devices that were seen before a time.
func (s *Store) KnownBefore(ctx context.Context, site uint64, at time.Time) (map[uint64]bool, error) {
	var numbers []uint64
	if err := s.db.WithContext(ctx).Model(&deviceRow{}).Where("site_id = ? AND first_seen < ?", site, at).Pluck("id", &numbers).Error; err != nil {
		return nil, own(err, "devices")
	}
	known := make(map[uint64]bool, len(numbers))
	for _, number := range numbers {
		known[number] = true
	}
	return known, nil
}
