package main

import (
	"context"
	"fmt"
	"net/netip"
	"runtime"
	"syscall"
	"time"

	"golang.org/x/sync/errgroup"

	"airdrift/core/netrange"
	"airdrift/core/probe"
	"airdrift/core/sweep"
	"airdrift/simsite"
)

// fast is a pace at which a /16 is called in seconds: what is measured is what the engine adds to it.
var fast = sweep.Pace{Name: "own", Rate: 20000, Devices: 16, PerDevice: 8, PerNetwork: 256, Rounds: 3}

// crowdOrder sweeps all of a crowd's subnet.
func crowdOrder(c *crowd, ports ...uint16) sweep.Order {
	fence := []netip.Prefix{c.prefix.Masked()}
	return sweep.Order{Ranges: netrange.FromPrefixes(fence...), Fence: fence, Pace: fast, Ports: ports, Seed: 1}
}

// rollCallFigures are measured together, on one roll call of a /16 of which 2 % live.
type rollCallFigures struct {
	overFloor float64
	memory    float64 // MiB above idle
	frames    float64 // a second
	cpu       float64 // seconds for 1,000 addresses
}

func rollCall16() (rollCallFigures, error) {
	c := &crowd{prefix: netip.MustParsePrefix("10.1.0.2/16"), every: 50}
	var f rollCallFigures
	runtime.GC()
	idle, peak := heap(), uint64(0)
	before, start := cpuTime(), time.Now()
	var rolled time.Duration
	var sent uint64
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	summary, err := sweep.Run(ctx, c, crowdOrder(c), func(e sweep.Event) {
		switch e := e.(type) {
		case sweep.StageStarted:
			if e.Stage == sweep.Asking {
				rolled, sent = time.Since(start), uint64(c.frames.Load()+c.dials.Load())
				f.cpu = (cpuTime() - before).Seconds() / 65.536
			}
		case sweep.Progress:
			peak = max(peak, heap())
		}
	})
	if err != nil {
		return f, err
	}
	if want := 65536 / 50; summary.Answered < want {
		return f, fmt.Errorf("%d of %d were found on a segment where nothing gets lost", summary.Answered, want)
	}
	const lastTimeout = 300 * time.Millisecond
	f.overFloor = rolled.Seconds() / (float64(sent)/fast.Rate + lastTimeout.Seconds())
	f.memory = float64(peak-min(peak, idle)) / (1 << 20)
	f.frames = float64(sent) / rolled.Seconds()
	return f, nil
}

// heap gives what the program holds from the system for its objects, in bytes.
func heap() uint64 {
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return m.HeapInuse + m.StackInuse
}

func cpuTime() time.Duration {
	var u syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &u) // never fails for the own process
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// foundAt gives the share of devices that a sweep finds on segments where that share of the frames gets lost each way.
func foundAt(loss float64) (float64, error) {
	found, there := 0, 0
	for seed := range uint64(3) {
		scenario, devices, err := lossySite(loss, seed)
		if err != nil {
			return 0, err
		}
		n, err := sweepLossy(scenario)
		if err != nil {
			return 0, err
		}
		found, there = found+n, there+devices
	}
	return float64(found) / float64(there), nil
}

// lossySite makes a building with a segment of its own and one beyond a router; a third of those beyond drop echo requests
// and can be found at one port alone.
func lossySite(loss float64, seed uint64) (*simsite.Scenario, int, error) {
	const perNetwork = 120
	text := fmt.Sprintf(`name: lossy
seed: %d
networks:
  - {name: near, subnet: 10.1.0.0/24, gateway: 10.1.0.1, loss: %g}
  - {name: far, subnet: 10.1.1.0/24, gateway: 10.1.1.1, latency: 2ms}
vantage: {network: near, address: 10.1.0.2, mac: "00:00:5e:00:53:01"}
devices:
  - {name: router, standing: managed, forwards: true, legs: [{network: near, address: 10.1.0.1, mac: "00:00:01:00:00:01"}, {network: far, address: 10.1.1.1, mac: "00:00:01:00:01:01"}]}
`, seed+1, loss)
	for i := range perNetwork {
		text += fmt.Sprintf("  - {name: near %d, standing: managed, legs: [{network: near, address: 10.1.0.%d, mac: \"00:00:01:00:02:%02x\"}]}\n", i, 10+i, i)
		faults := ""
		if i%3 == 0 {
			faults = ", faults: [drops-echo, drops-refusal], services: [{port: 80, speaks: sink}]"
		}
		text += fmt.Sprintf("  - {name: far %d, standing: managed, legs: [{network: far, address: 10.1.1.%d, mac: \"00:00:01:00:03:%02x\"}]%s}\n", i, 10+i, i, faults)
	}
	scenario, err := simsite.Load("lossy", []byte(text))
	return scenario, 2*perNetwork + 2, err
}

func sweepLossy(scenario *simsite.Scenario) (int, error) {
	site, err := simsite.Start(scenario)
	if err != nil {
		return 0, err
	}
	defer site.Close()
	w, err := site.Wire()
	if err != nil {
		return 0, err
	}
	summary, err := sweep.Run(context.Background(), w, sweep.Order{
		Ranges: scenario.Ranges(), Fence: scenario.Subnets(), Pace: sweep.Brisk, Seed: 1,
	}, func(sweep.Event) {})
	return summary.Answered - 1, err // without the auditor's own machine
}

// portQuestions asks many ports of many devices that refuse after a while, and a bare loop of the same width the same.
func portQuestions() (float64, error) {
	const devices, ports = 64, 200
	c := &crowd{prefix: netip.MustParsePrefix("10.1.0.2/26"), every: 1, latency: 20 * time.Millisecond}
	list := make([]uint16, ports)
	for i := range list {
		list[i] = uint16(1000 + i)
	}
	width := fast.Devices * fast.PerDevice
	start := time.Now()
	g := new(errgroup.Group)
	g.SetLimit(width)
	for range devices * ports {
		g.Go(func() error {
			_, _, err := probe.Connect(context.Background(), probe.Over(c), netip.MustParseAddrPort("10.1.0.9:1000"), time.Second)
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return 0, err
	}
	bare := time.Since(start) / (devices * ports)
	c.dials.Store(0)
	c.first.Store(0)
	if _, err := sweep.Run(context.Background(), c, crowdOrder(c, list...), func(sweep.Event) {}); err != nil {
		return 0, err
	}
	return float64(bare*time.Duration(c.dials.Load())) / float64(c.last.Load()-c.first.Load()), nil
}

// silentPackets gives what a silent address beyond a router costs on the average, echo requests and attempts to connect, over ten.
// Of a thousand addresses one in thirty answers: to echo, to nothing but echo's lack (a refusal), or at one port alone.
func silentPackets() (float64, error) {
	d := &desert{sent: map[netip.Addr]int{}}
	fence := []netip.Prefix{netip.MustParsePrefix("10.1.0.0/22")}
	summary, err := sweep.Run(context.Background(), d, sweep.Order{Ranges: netrange.FromPrefixes(fence...), Fence: fence, Pace: sweep.Brisk, Seed: 1}, func(sweep.Event) {})
	if err != nil {
		return 0, err
	}
	there, silent, packets := 0, 0, 0
	for a, n := range d.sent {
		if d.lives(a) != nobody {
			there++
			continue
		}
		silent, packets = silent+1, packets+n
	}
	if summary.Answered != there {
		return 0, fmt.Errorf("%d of %d were found where nothing gets lost", summary.Answered, there)
	}
	return float64(packets) / float64(silent) / 10, nil
}
