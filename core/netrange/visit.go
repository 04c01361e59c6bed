package netrange

import (
	"math/bits"
	"net/netip"
)

// Visit is a keyed random order in which to visit each address of a set exactly once. It takes constant memory
// however large the set is, and the same seed gives the same order, so a stopped visit can go on from its place.
type Visit struct {
	set  Set
	half uint // bits of one half of the Feistel block
	keys [4]uint64
}

// NewVisit makes the order that the seed stands for.
func NewVisit(set Set, seed uint64) Visit {
	v := Visit{set: set, half: max(1, uint(bits.Len64(max(set.count, 1)-1)+1)/2)}
	for i := range v.keys {
		seed = mix(seed + 0x9e3779b97f4a7c15)
		v.keys[i] = seed
	}
	return v
}

// Len gives the number of places in the order.
func (v Visit) Len() uint64 { return v.set.count }

// At gives the address at place i of the order and its index in the set; i must be less than Len.
func (v Visit) At(i uint64) (netip.Addr, uint64) {
	// The block is at most four times as large as the set, so walking the permutation's cycle until it
	// comes back inside takes fewer than four steps on average and always ends.
	for {
		i = v.permute(i)
		if i < v.set.count {
			return v.set.At(i), i
		}
	}
}

// permute is a Feistel network: a bijection of the numbers below 2^(2*half) whatever its round function is.
func (v Visit) permute(x uint64) uint64 {
	mask := uint64(1)<<v.half - 1
	left, right := x>>v.half, x&mask
	for _, key := range v.keys {
		left, right = right, left^(mix(right^key)&mask)
	}
	return left<<v.half | right
}

// mix spreads every bit of x over the whole word (the finaliser of splitmix64).
func mix(x uint64) uint64 {
	x = (x ^ x>>30) * 0xbf58476d1ce4e5b9
	x = (x ^ x>>27) * 0x94d049bb133111eb
	return x ^ x>>31
}
