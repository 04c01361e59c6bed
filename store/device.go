package store

import (
	"context"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/inventory"
	"airdrift/core/ledger"
	"airdrift/core/registry"
)

// deviceRow has in columns what most lists sort and filter by, and the whole device in Record; the other fields are in fieldRow.
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

// toDeviceRow makes the row of a device that has its evidence.
func toDeviceRow(site uint64, d ledger.Device) (deviceRow, error) {
	record, err := toForm(d)
	if err != nil {
		return deviceRow{}, err
	}
	line := inventory.LineOf(d)
	text := func(field string) string { return cut(line.Text(field)) }
	row := deviceRow{
		ID: d.ID, SiteID: site, Name: text("name"), Addr: []byte{}, MAC: text("mac"), Kind: text("kind"),
		Vendor: text("vendor"), Model: text("model"), OS: text("os"), Firmware: text("firmware"), Strength: line.Number("strength"),
		Services: servicesText(d), Standing: text("standing"),
		Presence: text("presence"), GroupName: text("group"), LastSweep: d.LastSweep, Contested: line.Flag("contested"), Traits: len(d.Traits) > 0,
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
