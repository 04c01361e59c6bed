package store

import (
	"context"
	"fmt"
	"slices"
	"time"

	"airdrift/core/evidence"
)

// maxTimes is what the column of times takes, in bytes.
const maxTimes = 2000

// packTimes puts the times among facts into the form in which they are stored. What does not fit is left out.
func packTimes(items []evidence.Item) []byte {
	all := evidence.TimesIn(items)
	packed := evidence.PackTimes(all)
	for len(packed) > maxTimes {
		all = all[:len(all)-1]
		packed = evidence.PackTimes(all)
	}
	return append([]byte{}, packed...)
}

// timesItems gives stored times as facts.
func timesItems(packed []byte, at time.Time) (items []evidence.Item) {
	for _, t := range evidence.UnpackTimes(packed) {
		items = append(items, evidence.Item{Source: evidence.SourceSweep, Key: evidence.KeyTimes, Value: t.String(), At: at})
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
	var all [][]byte
	if err := db.Raw("SELECT times FROM sightings WHERE sweep_id = ? ORDER BY addr, mac, unit", q.Sweep).Scan(&all).Error; err != nil {
		return nil, nil, own(err, "sightings")
	}
	numbers, err := devicesIn(db, q.Sweep, len(all))
	if err != nil {
		return nil, nil, own(err, "sightings")
	}
	now, err := presentNumbers(db, row.SiteID, numbers)
	if err != nil {
		return nil, nil, own(err, "devices")
	}
	of, answered := map[uint64]evidence.Times{}, map[string]int{}
	seen := map[protocolOf]bool{}
	for i, packed := range all {
		device := numbers[i]
		if to, merged := now[device]; merged {
			device = to
		}
		for _, t := range evidence.UnpackTimes(packed) {
			if device == 0 {
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
