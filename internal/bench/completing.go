package main

import (
	"context"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"net/netip"
	"strings"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"airdrift/core/complete"
	"airdrift/core/evidence"
	"airdrift/core/probe"
	"airdrift/core/sweep"
	"airdrift/simsite"
)

const (
	seededBuildings = 200
	sweptAtOnce     = 48 // most of a sweep is waiting
)

// intervalsHeld sweeps 200 buildings that are different each, frame by frame, and gives the share of their networks in which the devices that were missed
// lie within the interval that is said to hold nine of ten.
func intervalsHeld() (float64, error) {
	var held, all atomic.Int64
	g := new(errgroup.Group)
	g.SetLimit(sweptAtOnce)
	for seed := range uint64(seededBuildings) {
		g.Go(func() error {
			b := seededBuilding(seed)
			figures, err := b.figures()
			for i, f := range figures {
				missed := float64(b.devices[i] - f.Seen)
				if all.Add(1); f.Told && missed >= math.Floor(f.Low) && missed <= math.Ceil(f.High) {
					held.Add(1)
				}
			}
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return 0, err
	}
	fmt.Printf("  %d of %d networks\n", held.Load(), all.Load())
	return float64(held.Load()) / float64(all.Load()), nil
}

// building is one that is made up by its seed: a network of the auditor's own and one behind a router.
type building struct {
	text    string
	devices [2]int // in each of its networks
	again   bool   // it was swept before
}

func seededBuilding(seed uint64) building {
	random := rand.New(rand.NewPCG(seed, 4))
	b := building{devices: [2]int{20 + random.IntN(30), 20 + random.IntN(30)}, again: seed%2 == 0}
	var text strings.Builder
	fmt.Fprintf(&text, `name: seeded
seed: %d
networks:
  - {name: near, subnet: 10.1.0.0/26, gateway: 10.1.0.1, loss: %.2f}
  - {name: far, subnet: 10.1.1.0/26, gateway: 10.1.1.1, loss: %.2f}
vantage: {network: near, address: 10.1.0.2, mac: "00:00:5e:00:53:01"}
devices:
  - {name: router, standing: managed, forwards: true, legs: [{network: near, address: 10.1.0.1, mac: "00:00:01:00:00:01"}, {network: far, address: 10.1.1.1, mac: "00:00:01:00:01:01"}]}
`, seed+1, 0.3*random.Float64(), 0.3*random.Float64())
	for i, devices := range b.devices {
		name := []string{"near", "far"}[i]
		for n := 1; n < devices; n++ { // the router is one
			more := ""
			switch random.IntN(4) {
			case 0: // it says nothing to all and answers no echo, but serves something
				more = `, faults: [drops-echo], services: [{port: 80, speaks: sink}]`
			case 1: // it drops what is not for its own service
				more = `, faults: [drops-refusal]`
			case 2:
				more = fmt.Sprintf(`, services: [{port: 5353, speaks: mdns, tells: {host: "%s%d", instance: "%s%d", offers: "_http._tcp:80"}}]`, name, n, name, n)
			}
			if random.IntN(3) == 0 { // at the end of a poor cable
				more += fmt.Sprintf(", loss: %.2f", 0.4*random.Float64())
			}
			fmt.Fprintf(&text, "  - {name: %s %d, standing: managed, legs: [{network: %s, address: 10.1.%d.%d, mac: \"00:00:01:00:%02x:%02x\"}]%s}\n", name, n, name, i, 10+n, 2+i, n, more)
		}
	}
	b.text = text.String()
	return b
}

// figures sweeps a building, and gives what is estimated of each of its networks.
func (b building) figures() ([]complete.Figure, error) {
	scenario, err := simsite.Load("seeded", []byte(b.text))
	if err != nil {
		return nil, err
	}
	before := map[netip.Addr]bool{}
	if b.again {
		seen, err := sightingsOf(scenario)
		if err != nil {
			return nil, err
		}
		scenario.Seed += seededBuildings // other frames get lost
		for addr := range seen {
			before[addr] = true
		}
	}
	seen, err := sightingsOf(scenario)
	if err != nil {
		return nil, err
	}
	var figures []complete.Figure
	for i, n := range scenario.Networks {
		var lists []complete.Way
		if b.again {
			lists = append(lists, complete.EarlierSweeps)
		}
		count := complete.NewNetwork(n.Subnet, i == 0, lists...)
		for addr, items := range seen {
			if !n.Subnet.Contains(addr) || evidence.First(items, evidence.KeySelf) != "" {
				continue
			}
			var on []complete.Way
			if before[addr] {
				on = append(on, complete.EarlierSweeps)
			}
			count.Add(addr.String(), items, on...)
		}
		figures = append(figures, complete.Of(count))
	}
	return figures, nil
}

// sightingsOf sweeps a building and gives what was seen at each address that answered.
func sightingsOf(scenario *simsite.Scenario) (map[netip.Addr][]evidence.Item, error) {
	site, err := simsite.Start(scenario)
	if err != nil {
		return nil, err
	}
	defer site.Close()
	w, err := site.Wire()
	if err != nil {
		return nil, err
	}
	seen := map[netip.Addr][]evidence.Item{}
	_, err = sweep.Run(context.Background(), w, sweep.Order{Ranges: scenario.Ranges(), Fence: scenario.Subnets(), Pace: sweep.Brisk, Ports: probe.TellingPorts(), Seed: scenario.Seed}, func(e sweep.Event) {
		if s, is := e.(sweep.Sighted); is && s.Sighting.Answered {
			seen[s.Sighting.Addr] = s.Sighting.Items
		}
	})
	if err == nil && len(seen) == 0 {
		err = errors.New("nothing was seen")
	}
	return seen, err
}
