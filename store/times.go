package store

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/inventory"
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
	Device inventory.Line
	Times  evidence.Times
}

// TimesQuery says which times are meant: those of a sweep in one protocol, or in the one that most devices answered in where none is named; of
// devices of some kinds and models, or of all.
type TimesQuery struct {
	Sweep    uint64
	Protocol string
	Kinds    []string
	Models   []string
}

// Times gives how long devices took over their answers in one protocol, in no order, and in which protocols how many devices answered, most of
// them first.
func (s *Store) Times(ctx context.Context, q TimesQuery) (list []DeviceTimes, answered []ProtocolCount, err error) {
	of, err := s.timesBy(ctx, q.Sweep)
	if err != nil {
		return nil, nil, err
	}
	for protocol, devices := range of {
		answered = append(answered, ProtocolCount{protocol, len(devices)})
	}
	slices.SortFunc(answered, func(a, b ProtocolCount) int {
		return cmp.Or(cmp.Compare(b.Devices, a.Devices), cmp.Compare(a.Protocol, b.Protocol))
	})
	if q.Protocol == "" && len(answered) > 0 {
		q.Protocol = answered[0].Protocol
	}
	list, err = s.timesOf(ctx, of[q.Protocol], q)
	return list, answered, err
}

// AllTimes gives how long devices took over their answers in a sweep, by their numbers, in order of the protocols.
func (s *Store) AllTimes(ctx context.Context, sweep uint64) (map[uint64][]evidence.Times, error) {
	by, err := s.timesBy(ctx, sweep)
	of := map[uint64][]evidence.Times{}
	for _, protocol := range slices.Sorted(maps.Keys(by)) {
		for device, times := range by[protocol] {
			of[device] = append(of[device], times)
		}
	}
	return of, err
}

// timesBy gives how long devices took over their answers in a sweep, by protocol and device.
func (s *Store) timesBy(ctx context.Context, sweep uint64) (of map[string]map[uint64]evidence.Times, err error) {
	db := s.db.WithContext(ctx)
	var row sweepRow
	if err := db.Select("id, site_id").First(&row, sweep).Error; err != nil {
		return nil, own(err, fmt.Sprintf("sweep %d", sweep))
	}
	var all [][]byte
	if err := db.Raw("SELECT times FROM sightings WHERE sweep_id = ? ORDER BY addr, mac, unit", sweep).Scan(&all).Error; err != nil {
		return nil, own(err, "sightings")
	}
	numbers, err := devicesIn(db, sweep, len(all))
	if err != nil {
		return nil, own(err, "sightings")
	}
	now, err := presentNumbers(db, row.SiteID, numbers)
	if err != nil {
		return nil, own(err, "devices")
	}
	of = map[string]map[uint64]evidence.Times{}
	for i, packed := range all {
		device := numbers[i]
		if to, merged := now[device]; merged {
			device = to
		}
		if device == 0 {
			continue
		}
		for _, t := range evidence.UnpackTimes(packed) {
			if of[t.Protocol] == nil {
				of[t.Protocol] = map[uint64]evidence.Times{}
			}
			if before, has := of[t.Protocol][device]; has {
				t = before.With(t)
			}
			of[t.Protocol][device] = t
		}
	}
	return of, nil
}

// ProtocolCount is how many devices answered in a protocol.
type ProtocolCount struct {
	Protocol string
	Devices  int
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
			if (len(q.Kinds) == 0 || slices.Contains(q.Kinds, line.Text("kind"))) && (len(q.Models) == 0 || slices.Contains(q.Models, line.Text("model"))) {
				list = append(list, DeviceTimes{line, of[line.ID]})
			}
		}
	}
	return list, nil
}
