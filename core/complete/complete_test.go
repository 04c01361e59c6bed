package complete

import (
	"fmt"
	"math"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"airdrift/core/evidence"
)

// resident is a sort of device, with how likely each way of looking sees one.
type resident struct {
	part float64 // of all devices
	sees map[Way]float64
}

// Two sorts of network: a segment of the auditor's own, on which a device that is awake answers to address resolution, and one beyond a router. The
// chances are by cause: a desk drops what it was not asked for, a telephone sleeps and has a lease, a controller has a fixed address and refuses
// what it does not speak.
var (
	desks       = map[Way]float64{Resolution: 0.97, Announcement: 0.8, Echo: 0.45, Connection: 0.65, LeaseTable: 0.85, EarlierSweeps: 0.7}
	telephones  = map[Way]float64{Resolution: 0.6, Announcement: 0.4, Echo: 0.4, Connection: 0.3, LeaseTable: 0.9, EarlierSweeps: 0.45}
	controllers = map[Way]float64{Resolution: 0.98, Announcement: 0.35, Echo: 0.9, Connection: 0.85, LeaseTable: 0.1, EarlierSweeps: 0.85}
	printers    = map[Way]float64{Resolution: 0.97, Announcement: 0.9, Echo: 0.95, Connection: 0.95, LeaseTable: 0.5, EarlierSweeps: 0.85}
)

// showing are facts by which each way of looking shows a device.
var showing = map[Way]evidence.Item{
	Resolution: {Source: evidence.SourceARP, Key: evidence.KeyMAC, RTT: 1}, Echo: {Source: evidence.SourceEcho, Key: evidence.KeyEchoTTL},
	Connection: {Source: evidence.SourceTCP, Key: evidence.KeyTCPRefused}, Announcement: {Source: evidence.SourceMDNS, Key: evidence.KeyMDNSHost},
	LeaseTable: {Source: evidence.SourceLease, Key: evidence.KeyLeaseName},
}

// see has a device seen by some ways.
func see(n *Network, who string, ways ...Way) {
	var items []evidence.Item
	var lists []Way
	for _, w := range ways {
		if it, shows := showing[w]; shows {
			items = append(items, it)
		} else {
			lists = append(lists, w)
		}
	}
	n.Add(who, items, lists...)
}

// sweepOf gives what the ways see of a building, and how many devices it has.
func sweepOf(seed uint64) (n *Network, devices int) {
	random := rand.New(rand.NewPCG(seed, 14))
	residents := []resident{{random.Float64(), desks}, {random.Float64(), telephones}, {random.Float64(), controllers}, {random.Float64(), printers}}
	var parts float64
	for _, r := range residents {
		parts += r.part
	}
	own := random.IntN(2) == 0
	ways := []Way{Echo, Connection, LeaseTable, EarlierSweeps}
	if own {
		ways = []Way{Resolution, Announcement, LeaseTable, EarlierSweeps}
	}
	if random.IntN(2) == 0 {
		ways = ways[:3] // it is swept for the first time
	}
	n = NewNetwork(netip.MustParsePrefix("10.9.0.0/20"), own, ways...)
	devices = 40 + random.IntN(400)
	for i := range devices {
		at, of := random.Float64()*parts, 0
		for at > residents[of].part && of < len(residents)-1 {
			at -= residents[of].part
			of++
		}
		var by []Way
		for _, w := range ways {
			if random.Float64() < residents[of].sees[w] {
				by = append(by, w)
			}
		}
		if len(by) > 0 {
			see(n, fmt.Sprint(i), by...)
		}
	}
	return n, devices
}

// In at least 85 of 100 buildings the truth lies within the interval that is said to hold nine of ten.
func TestSeededBuildings(t *testing.T) {
	const buildings = 200
	held, off, width := 0, 0.0, 0.0
	for seed := range uint64(buildings) {
		n, devices := sweepOf(seed)
		f := Of(n)
		if !f.Told {
			t.Fatalf("building %d: nothing is told: %+v", seed, f)
		}
		missed := float64(devices - f.Seen)
		if missed >= math.Floor(f.Low) && missed <= math.Ceil(f.High) {
			held++
		}
		off += (f.Missed - missed) / float64(devices)
		width += (f.High - f.Low) / float64(devices)
	}
	t.Logf("the truth lies within the interval in %d of %d; on the average it is off by %.1f %% of the devices, and the interval is %.1f %% of them wide", held, buildings, 100*off/buildings, 100*width/buildings)
	if held < buildings*85/100 {
		t.Errorf("the truth lies within the interval in %d of %d only", held, buildings)
	}
}

// table fills cells for a given chance by each way, with exactly what is to be expected of a number of devices.
func table(devices float64, chances ...float64) cells {
	c := cells{ways: len(chances), count: make([]float64, 1<<len(chances))}
	for pattern := range c.count {
		c.count[pattern] = devices
		for i, p := range chances {
			if pattern>>i&1 == 0 {
				p = 1 - p
			}
			c.count[pattern] *= p
		}
	}
	return c
}

func TestModels(t *testing.T) {
	t.Run("two ways that know nothing of each other", func(t *testing.T) {
		// Evans and Bonett's form of Lincoln's estimate: 30.5 · 20.5 / 60.5.
		c := cells{ways: 2, count: []float64{0, 30, 20, 60}}
		missed, low, high, ok := c.logLinear()
		if want := 30.5 * 20.5 / 60.5; !ok || math.Abs(missed-want) > 1e-6 || low >= missed || high <= missed {
			t.Errorf("%v (%v to %v, %v), want %v", missed, low, high, ok, want)
		}
	})
	t.Run("three ways", func(t *testing.T) {
		c := table(10_000, 0.6, 0.5, 0.7)
		f, ok := c.fit([]uint{0, 1, 2, 4})
		if want := 10_000 * 0.4 * 0.5 * 0.3; !ok || math.Abs(f.missed-want) > 0.01 {
			t.Errorf("%+v, want %v", f, want)
		}
	})
	t.Run("two of three depend on each other", func(t *testing.T) {
		// Half of the devices drop what the first two ways ask, and the third sees both halves alike.
		c, shy := table(5000, 0.9, 0.9, 0.5), table(5000, 0.1, 0.1, 0.5)
		for i := range c.count {
			c.count[i] += shy.count[i]
		}
		missed, low, high, ok := c.logLinear()
		if want := 5000*0.1*0.1*0.5 + 5000*0.9*0.9*0.5; !ok || low > want || high < want || math.Abs(missed-want) > 0.05*want {
			t.Errorf("%v (%v to %v, %v), want %v", missed, low, high, ok, want)
		}
	})
	t.Run("what earlier sweeps alone have seen may have gone", func(t *testing.T) {
		c := table(1000, 0.6, 0.5, 0.7)
		c.open = 4
		f, ok := c.fit([]uint{0, 1, 2, 4})
		if want := 1000 * 0.4 * 0.5; !ok || math.Abs(f.missed-want) > 0.01 { // whether they were known or not
			t.Errorf("%+v, want %v", f, want)
		}
	})
	t.Run("nobody was seen twice", func(t *testing.T) {
		c := cells{ways: 3, count: []float64{0, 5, 5, 0, 5, 0, 0, 0}}
		missed, _, high, _ := c.logLinear()
		if math.IsNaN(missed) || math.IsInf(high, 0) || missed < 5 {
			t.Errorf("%v up to %v", missed, high)
		}
	})
	t.Run("Chao's bound", func(t *testing.T) {
		// 1/2 · 50 · 49 / (2 · 61), of 50 seen once and 60 twice.
		if g := (cells{ways: 2, count: []float64{0, 30, 20, 60}}).chao(); math.Abs(g.missed-50*49/(4*61.0)) > 1e-9 {
			t.Error(g)
		}
	})
}

func TestFigures(t *testing.T) {
	subnet := netip.MustParsePrefix("10.9.0.0/24")
	fill := func(n *Network, devices int, ways ...Way) {
		for range devices {
			see(n, fmt.Sprint(len(n.seen)), ways...)
		}
	}
	tests := []struct {
		name   string
		n      *Network
		fill   func(n *Network)
		seen   int
		told   bool
		advice string
	}{
		{"nobody", NewNetwork(subnet, false), func(*Network) {}, 0, false, "empty from-within no-leases once-swept"},
		{"one way", NewNetwork(subnet, false), func(n *Network) { fill(n, 9, Echo) }, 9, false, "one-way from-within no-leases once-swept"},
		{"two ways", NewNetwork(subnet, false), func(n *Network) { fill(n, 9, Echo, Connection); fill(n, 2, Echo) }, 11, true, "two-ways from-within no-leases once-swept"},
		{"beyond the segment an announcement is an answer", NewNetwork(subnet, false), func(n *Network) { fill(n, 9, Echo, Announcement) }, 9, false, "one-way from-within no-leases once-swept"},
		{"on the own segment TCP is no way", NewNetwork(subnet, true), func(n *Network) { fill(n, 9, Resolution, Echo, Connection) }, 9, false, "one-way no-leases once-swept"},
		{"without the right to frames the system's table is no way", NewNetwork(subnet, true), func(n *Network) {
			n.Add("a", []evidence.Item{{Key: evidence.KeyMAC}, showing[Echo]})
			n.Add("b", []evidence.Item{{Key: evidence.KeyMAC}, showing[Connection]})
		}, 2, true, "two-ways no-frames no-leases once-swept"},
		{"a list that names nobody is a way", NewNetwork(subnet, true, LeaseTable), func(n *Network) { fill(n, 9, Resolution, Announcement) }, 9, true, "two-ways no-leases once-swept"},
		{"all ways", NewNetwork(subnet, true), func(n *Network) {
			fill(n, 9, Resolution, Announcement, LeaseTable, EarlierSweeps)
			fill(n, 3, EarlierSweeps)
		}, 9, true, ""},
		{"what has a lease alone is missed", NewNetwork(subnet, true), func(n *Network) { fill(n, 9, Resolution, Announcement, LeaseTable); fill(n, 4, LeaseTable) }, 9, true, "once-swept"},
	}
	for _, tt := range tests {
		tt.fill(tt.n)
		f := Of(tt.n)
		var advice []string
		for _, a := range f.Advice {
			advice = append(advice, string(a))
		}
		if f.Seen != tt.seen || f.Told != tt.told || strings.Join(advice, " ") != tt.advice || f.Low > f.Missed || f.Missed > f.High || f.High > 254 || f.Low < float64(f.Listed) {
			t.Errorf("%s: %+v", tt.name, f)
		}
	}
	// Of a full network nothing is missed, however little the ways agree.
	full := NewNetwork(netip.MustParsePrefix("10.9.0.0/29"), false)
	fill(full, 3, Echo)
	fill(full, 3, Connection)
	if f := Of(full); f.High != 0 {
		t.Errorf("%+v", f)
	}
}

func TestSum(t *testing.T) {
	sum := Sum([]Figure{{Seen: 90, Missed: 10, Low: 7, High: 14, Told: true}, {Seen: 50, Missed: 5, Low: 1, High: 8, Told: true}, {}})
	if !sum.Told || sum.Seen != 140 || sum.Missed != 15 || sum.Low != 10 || sum.High != 20 {
		t.Errorf("%+v", sum)
	}
	if sum := Sum([]Figure{{Seen: 90, Told: true}, {Seen: 3}}); sum.Told {
		t.Error("the sum tells of a network of which nothing can be told")
	}
}

func TestWays(t *testing.T) {
	items := []evidence.Item{
		{Source: evidence.SourceSNMP, Key: evidence.KeySNMPName}, {Source: evidence.SourceTCP, Key: evidence.KeyTCPRefused}, {Source: evidence.SourceMDNS, Key: evidence.KeyMDNSHost},
		{Source: evidence.SourceLease, Key: evidence.KeyLeaseName}, {Source: evidence.SourceEcho, Key: evidence.KeyEchoTTL}, {Source: evidence.SourceARP, Key: evidence.KeyMAC},
	}
	if got := WaysOf(items); !slices.Equal(got, everyWay[:5]) {
		t.Error(got)
	}
	if got := WaysOf([]evidence.Item{{Source: evidence.SourceSNMP, Key: evidence.KeySNMPName}, {Source: evidence.SourceTCP, Key: evidence.KeyTCPSilent}}); len(got) > 0 {
		t.Error(got)
	}
}
