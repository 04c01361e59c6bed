package sweep

import (
	"cmp"
	"fmt"
	"hash/maphash"
	"maps"
	"slices"
	"strings"
	"time"

	"golang.org/x/time/rate"

	"airdrift/core/hwaddr"
)

// Any device on a segment can say anything in another's name. One that answers a question of the sweep's is bounded by the addresses
// it asked; what is only heard is bounded here.
const (
	// maxHeard is how many sightings a sweep keeps of those that were only heard, far more than one segment holds.
	maxHeard = 4096
	// maxHeardOfMAC is at how many addresses one MAC is heard. Routers that answer for others are told by their answers.
	maxHeardOfMAC = 64
	// maxHolders is how many MACs are kept at one address, and maxHeardHolders how many of them without an answer.
	maxHolders, maxHeardHolders = 16, 4
	// newPerSecond and newAtOnce are how fast new ones may turn up. Beyond it, what is heard a second time is still kept: a
	// device speaks again, and a forged address hardly ever.
	newPerSecond, newAtOnce = 20, 512
	// manyRefused is from how many on a segment is said to be flooded.
	manyRefused = 1000
	// maxAccused bounds the MACs that are counted.
	maxAccused = 4096
)

// admission decides which of those only heard are kept. It is guarded by the roster's lock.
type admission struct {
	kept    int
	ofMAC   map[hwaddr.MAC]int
	rate    *rate.Limiter
	seed    maphash.Seed // so that nobody can choose addresses that meet in one place
	before  [1 << 18]uint32
	refused uint64
	accused map[hwaddr.MAC]uint64
}

func newAdmission() *admission {
	return &admission{
		ofMAC: map[hwaddr.MAC]int{}, rate: rate.NewLimiter(newPerSecond, newAtOnce), seed: maphash.MakeSeed(), accused: map[hwaddr.MAC]uint64{},
	}
}

// admit reports whether a new one that is only heard is kept; holders are those known at the address.
func (a *admission) admit(key sightingKey, holders int, now time.Time) bool {
	again := a.heardAgain(key)
	if a.kept >= maxHeard || a.ofMAC[key.mac] >= maxHeardOfMAC || holders >= maxHeardHolders || !again && !a.rate.AllowN(now, 1) {
		a.refuse(key.mac)
		return false
	}
	a.kept++
	a.ofMAC[key.mac]++
	return true
}

// refuse counts one that is left out.
func (a *admission) refuse(mac hwaddr.MAC) {
	a.refused++
	if _, known := a.accused[mac]; known || len(a.accused) < maxAccused {
		a.accused[mac]++
	}
}

// heardAgain reports whether one that was left out a while ago is heard once more. It drops the older ones in time.
func (a *admission) heardAgain(key sightingKey) bool {
	var hash maphash.Hash
	hash.SetSeed(a.seed)
	_, _ = hash.Write(key.mac[:])
	_, _ = hash.Write(key.addr.AsSlice())
	sum := hash.Sum64()
	place, mark := sum%uint64(len(a.before)), uint32(sum>>32)|1
	again := a.before[place] == mark
	a.before[place] = mark
	return again
}

// text says in words which device floods the segment, or nothing where nobody does.
func (a *admission) text() string {
	if a.refused < manyRefused {
		return ""
	}
	macs := slices.SortedFunc(maps.Keys(a.accused), func(x, y hwaddr.MAC) int {
		return cmp.Or(cmp.Compare(a.accused[y], a.accused[x]), slices.Compare(x[:], y[:]))
	})
	var worst []string
	for _, mac := range macs[:min(len(macs), maxNamed)] {
		worst = append(worst, fmt.Sprintf("%s (%d)", mac, a.accused[mac]))
	}
	more := ""
	if len(macs) > maxNamed {
		more = fmt.Sprintf(" and at least %d other MAC addresses", len(macs)-maxNamed)
	}
	return fmt.Sprintf("This segment is being flooded: %d announcements of addresses were left out, by %s%s. Devices that answer the sweep's own questions are seen all the same.",
		a.refused, strings.Join(worst, ", "), more)
}

// bits are a set of numbers, one bit each.
type bits []uint64

func newBits(count uint64) bits  { return make(bits, (count+63)/64) }
func (b bits) has(i uint64) bool { return b[i/64]&(1<<(i%64)) != 0 }
func (b bits) add(i uint64) (isNew bool) {
	isNew = !b.has(i)
	b[i/64] |= 1 << (i % 64)
	return isNew
}
