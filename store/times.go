package store

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"airdrift/core/evidence"
)

// maxTimes is what the column of times takes, in bytes.
const maxTimes = 4000

// timesText writes the times among facts as they are stored: a line for each protocol. What does not fit is left out.
func timesText(items []evidence.Item) string {
	var text strings.Builder
	for _, t := range evidence.TimesIn(items) {
		if line := t.String() + "\n"; text.Len()+len(line) <= maxTimes {
			text.WriteString(line)
		}
	}
	return text.String()
}

// timesItems gives stored times as facts.
func timesItems(text string, at time.Time) (items []evidence.Item) {
	for line := range strings.Lines(text) {
		items = append(items, evidence.Item{Source: evidence.SourceSweep, Key: evidence.KeyTimes, Value: strings.TrimSpace(line), At: at})
	}
	return items
}

// withoutTimes gives facts without the times among them.
func withoutTimes(items []evidence.Item) []evidence.Item {
	isTimes := func(it evidence.Item) bool { return it.Key == evidence.KeyTimes }
	if !slices.ContainsFunc(items, isTimes) {
		return items
	}
	return slices.DeleteFunc(slices.Clone(items), isTimes)
}

// DeviceTimes is how long a device took over its answers in one protocol, in one sweep.
type DeviceTimes struct {
	Device DeviceLine
	Times  evidence.Times
}

// TimesQuery says which times are meant: those of a sweep in one protocol, of devices of some kinds and models, or of all where none is named.
type TimesQuery struct {
	Sweep    uint64
	Protocol string
	Kinds    []string
	Models   []string
}

// Times gives how long devices took over their answers in one protocol, in no order, and how many devices answered in each protocol.
func (s *Store) Times(ctx context.Context, q TimesQuery) (list []DeviceTimes, answered map[string]int, err error) {
	db := s.db.WithContext(ctx)
	var row sweepRow
	if err := db.Select("id, site_id").First(&row, q.Sweep).Error; err != nil {
		return nil, nil, own(err, fmt.Sprintf("sweep %d", q.Sweep))
	}
	var texts []string
	if err := db.Raw("SELECT times FROM sightings WHERE sweep_id = ? ORDER BY addr, mac, unit", q.Sweep).Scan(&texts).Error; err != nil {
		return nil, nil, own(err, "sightings")
	}
	numbers, err := devicesIn(db, q.Sweep, len(texts))
	if err != nil {
		return nil, nil, own(err, "sightings")
	}
	now, err := presentNumbers(db, row.SiteID, numbers)
	if err != nil {
		return nil, nil, own(err, "devices")
	}
	of, answered := map[uint64]evidence.Times{}, map[string]int{}
	seen := map[protocolOf]bool{}
	for i, text := range texts {
		device := numbers[i]
		if to, merged := now[device]; merged {
			device = to
		}
		for line := range strings.Lines(text) {
			t, ok := evidence.ParseTimes(strings.TrimSpace(line))
			if !ok || device == 0 {
				continue
			}
			if at := (protocolOf{device, t.Protocol}); !seen[at] {
				seen[at] = true
				answered[t.Protocol]++
			}
			if t.Protocol != q.Protocol {
				continue
			}
			if before, has := of[device]; has {
				t = before.With(t)
			}
			of[device] = t
		}
	}
	list, err = s.timesOf(ctx, of, q)
	return list, answered, err
}

type protocolOf struct {
	device   uint64
	protocol string
}

// timesOf puts to times what a list shows of their devices, of those that are meant.
func (s *Store) timesOf(ctx context.Context, of map[uint64]evidence.Times, q TimesQuery) ([]DeviceTimes, error) {
	ids := make([]uint64, 0, len(of))
	for id := range of {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	var list []DeviceTimes
	for part := range slices.Chunk(ids, batchSize) {
		lines, err := linesOf(s.db.WithContext(ctx), part)
		if err != nil {
			return nil, err
		}
		for _, line := range lines {
			if (len(q.Kinds) == 0 || slices.Contains(q.Kinds, line.Kind)) && (len(q.Models) == 0 || slices.Contains(q.Models, line.Model)) {
				list = append(list, DeviceTimes{line, of[line.ID]})
			}
		}
	}
	return list, nil
}
