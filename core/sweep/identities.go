package sweep

import (
	"net/netip"
	"sync"

	"airdrift/core/evidence"
)

// identities tell at which further addresses a device that has been asked answers, by its own tables, and by which identifiers it is
// known there. A device may name any address as its own, so a device is taken to be the same only where it says the same identifier.
type identities struct {
	mu sync.Mutex // guards by
	by map[netip.Addr]map[fact]netip.Addr
}

// fact is an identifier of a device.
type fact struct{ key, value string }

const (
	// maxOwnAddrs bounds the addresses that one device may call its own.
	maxOwnAddrs = 64
	// maxIdentities bounds the addresses of which identifiers are kept.
	maxIdentities = 1 << 14
)

// learn takes in the tables of a device that has been asked at an address.
func (i *identities) learn(asked netip.Addr, items []evidence.Item) {
	var own []netip.Addr
	var identifiers []fact
	for _, it := range items {
		switch documented, _ := evidence.FactOf(it.Key); documented.Use {
		case evidence.OwnAddress:
			if a, err := netip.ParseAddr(it.Value); err == nil && a != asked && len(own) < maxOwnAddrs {
				own = append(own, a)
			}
		case evidence.Identifier:
			identifiers = append(identifiers, fact{it.Key, it.Value})
		}
	}
	i.mu.Lock()
	defer i.mu.Unlock()
	if i.by == nil {
		i.by = map[netip.Addr]map[fact]netip.Addr{}
	}
	for _, a := range own {
		if i.by[a] == nil && len(i.by) >= maxIdentities {
			continue
		}
		if i.by[a] == nil {
			i.by[a] = map[fact]netip.Addr{}
		}
		for _, id := range identifiers {
			i.by[a][id] = asked
		}
	}
}

// sameAs gives the address at which the device that says this identifier at this address was asked already.
func (i *identities) sameAs(a netip.Addr, key, value string) (asked netip.Addr, ok bool) {
	i.mu.Lock()
	defer i.mu.Unlock()
	asked, ok = i.by[a][fact{key, value}]
	return asked, ok
}

// expects reports whether an address is one that a device which has been asked calls its own.
func (i *identities) expects(a netip.Addr) bool {
	i.mu.Lock()
	defer i.mu.Unlock()
	return len(i.by[a]) > 0
}
