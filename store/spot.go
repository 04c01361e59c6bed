package store

import (
	"context"
	"net/netip"

	"airdrift/core/ledger"
)

// Spot is a device with an address that it holds, or that the register says.
type Spot struct {
	Device    uint64
	Addr      netip.Addr // invalid of one without any
	First     bool       // it is the one by which the device is listed
	Standing  ledger.Standing
	Presence  ledger.Presence
	Contested bool // the device shares an address
	Never     bool // it was never seen: the register alone says it
}

// Spots gives the addresses that are held at a site, of each device the one by which it is listed first; without reading the devices whole.
func (s *Store) Spots(ctx context.Context, site uint64) ([]Spot, error) {
	var rows []struct {
		ID        uint64
		Addr      []byte
		Held      []byte
		Standing  string
		Presence  string
		Contested bool
		Never     bool
	}
	err := s.db.WithContext(ctx).Raw(`SELECT d.id, d.addr, t.addr AS held, d.standing, d.presence, d.contested, d.first_seen IS NULL AS never
		FROM devices d LEFT JOIN (SELECT DISTINCT device_id, addr FROM tenures WHERE site_id = ? AND until IS NULL) t ON t.device_id = d.id WHERE d.site_id = ? ORDER BY d.id`, site, site).Scan(&rows).Error
	if err != nil {
		return nil, own(err, "devices")
	}
	var spots []Spot
	var last uint64
	for _, r := range rows {
		spot := Spot{Device: r.ID, Addr: fromSortable(r.Addr), First: true, Standing: ledger.Standing(r.Standing), Presence: ledger.Presence(r.Presence), Contested: r.Contested, Never: r.Never}
		first := spot.Addr
		if r.ID != last {
			spots = append(spots, spot)
			last = r.ID
		}
		if held := fromSortable(r.Held); held.IsValid() && held != first {
			spot.Addr, spot.First = held, false
			spots = append(spots, spot)
		}
	}
	return spots, nil
}
