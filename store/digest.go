package store

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"slices"
	"time"
)

// SweepDigest gives the SHA-256, in hexadecimal digits, over all that a sweep has seen: address, MAC address, unit, whether it answered, when it was
// seen first, and its facts. The same sweep has the same one wherever it is stored.
func (s *Store) SweepDigest(ctx context.Context, sweep uint64) (string, error) {
	rows, err := s.db.WithContext(ctx).Raw("SELECT addr, mac, unit, answered, first_at, facts FROM sightings WHERE sweep_id = ? ORDER BY addr, mac, unit", sweep).Rows()
	if err != nil {
		return "", own(err, fmt.Sprintf("sweep %d", sweep))
	}
	sum := sha256.New()
	for rows.Next() {
		var addr, mac, facts []byte
		var unit string
		var answered bool
		var at time.Time
		if err := rows.Scan(&addr, &mac, &unit, &answered, &at, &facts); err != nil {
			return "", own(closing(rows, err), fmt.Sprintf("sweep %d", sweep))
		}
		for _, part := range [][]byte{addr, mac, []byte(unit), facts, []byte(at.UTC().Format(time.RFC3339Nano)), {byte(0)}} {
			sum.Write(binary.BigEndian.AppendUint32(nil, uint32(len(part)))) //nolint:gosec // a column of a few bytes
			sum.Write(part)
		}
		if answered {
			sum.Write([]byte{1})
		}
	}
	if err := closing(rows, rows.Err()); err != nil {
		return "", own(err, fmt.Sprintf("sweep %d", sweep))
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

// DevicesMet gives the numbers of the devices that a sweep has met, each once and in ascending order, as they are numbered now.
func (s *Store) DevicesMet(ctx context.Context, sweep uint64) ([]uint64, error) {
	seen, numbers, err := s.SeenBy(ctx, sweep)
	if err != nil {
		return nil, err
	}
	var met []uint64
	for i, sg := range seen.Sightings {
		if sg.Answered && numbers[i] != 0 {
			met = append(met, numbers[i])
		}
	}
	return slices.Compact(slices.Sorted(slices.Values(met))), nil
}
