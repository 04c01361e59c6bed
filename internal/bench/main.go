// Command bench measures the program against its budgets and prints a line "name ratio bound" for each: the ratio is
// what was measured over what is allowed or asked for in the same run. It exits 1 where one misses its bound.
package main

import (
	"context"
	"fmt"
	"net/netip"
	"os"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/identify"
	"airdrift/core/ledger"
	"airdrift/core/netrange"
	"airdrift/core/registry"
	"airdrift/core/sweep"
	"airdrift/simsite"
)

// budget is one measurement and the bound it must keep.
type budget struct {
	name    string
	bound   float64
	atLeast bool // the ratio must be at least the bound rather than at most
	measure func() (float64, error)
}

var budgets = []budget{
	{"identify devices/s over 20,000", 1, true, identifyRate},
	{"ledger, 100,000 sightings over 2 s", 1, false, ledgerTime},
	{"roll call of a /20 over its floor", 1.15, false, rollCall},
}

func main() { os.Exit(run()) }

func run() int {
	missed := 0
	for _, b := range budgets {
		ratio, err := b.measure()
		if err != nil {
			fmt.Fprintln(os.Stderr, b.name+":", err)
			return 1
		}
		word, kept := "at most", ratio <= b.bound
		if b.atLeast {
			word, kept = "at least", ratio >= b.bound
		}
		verdict := ""
		if !kept {
			verdict = "  MISSED"
			missed++
		}
		fmt.Printf("%-38s %6.2f  %s %.2f%s\n", b.name, ratio, word, b.bound, verdict)
	}
	if missed > 0 {
		return 1
	}
	return 0
}

// facts is what a printer with a talkative web page says.
func facts(mac string) []evidence.Item {
	items := []evidence.Item{
		{Source: evidence.SourceARP, Key: evidence.KeyMAC, Value: mac},
		{Source: evidence.SourceHTTP, Key: evidence.KeyHTTPTitle, Port: evidence.TCP(80), Value: "Laser Printer in the hall"},
		{Source: evidence.SourceHTTP, Key: evidence.KeyHTTPServer, Port: evidence.TCP(80), Value: "nginx"},
		{Source: evidence.SourceHTTP, Key: evidence.KeyHTTPStatus, Port: evidence.TCP(80), Value: "200"},
		{Source: evidence.SourceSSH, Key: evidence.KeySSHGreeting, Port: evidence.TCP(22), Value: "SSH-2.0-dropbear_2022.83"},
		{Source: evidence.SourceFTP, Key: evidence.KeyFTPGreeting, Port: evidence.TCP(21), Value: "220 ready"},
	}
	for _, port := range []uint16{21, 22, 80, 9100} {
		items = append(items, evidence.Item{Source: evidence.SourceTCP, Key: evidence.KeyTCPOpen, Port: evidence.TCP(port), Value: fmt.Sprint(port)})
	}
	return items
}

func identifyRate() (float64, error) {
	engine := identify.New(identify.Default(), nil)
	registry.IEEE()
	items := facts("00:00:01:02:03:04")
	const rounds = 50_000
	start := time.Now()
	for range rounds {
		engine.Identify(items)
	}
	return rounds / time.Since(start).Seconds() / 20_000, nil
}

// known stands for the engine, whose own time is another budget.
type known struct{}

func (known) Identify([]evidence.Item) identify.Identity {
	return identify.Identity{{Attribute: identify.Kind, Value: "printer"}}
}

func ledgerTime() (float64, error) {
	const count = 100_000
	s := ledger.Sweep{ID: 1, Began: time.Now(), Covered: netrange.FromPrefixes(netip.MustParsePrefix("10.0.0.0/8"))}
	for i := range uint32(count) {
		mac := hwaddr.MAC{0x00, 0x00, 0x01, byte(i >> 16), byte(i >> 8), byte(i)}
		s.Sightings = append(s.Sightings, evidence.Sighting{
			Addr: netip.AddrFrom4([4]byte{10, byte(i >> 16), byte(i >> 8), byte(i)}), MAC: mac, Answered: true, FirstAt: s.Began, Items: facts(mac.String()),
		})
	}
	first := ledger.Apply(nil, nil, s, known{})
	s.ID = 2
	start := time.Now()
	again := ledger.Apply(first.Devices, nil, s, known{})
	took := time.Since(start)
	if len(again.Devices) != count || len(again.Changes) != 0 {
		return 0, fmt.Errorf("%d devices and %d changes came of the same %d sightings", len(again.Devices), len(again.Changes), count)
	}
	return took.Seconds() / 2, nil
}

// rollCall calls a /20 of the own segment in which nobody answers, so that every question of every round is sent. The
// floor is the time the pace needs for them, and the wait for the last answer of each round.
func rollCall() (float64, error) {
	const building = `name: bench
networks: [{name: near, subnet: 10.1.0.0/20}]
vantage: {network: near, address: 10.1.0.2, mac: "00:00:5e:00:53:01"}
`
	scenario, err := simsite.Load("bench", []byte(building))
	if err != nil {
		return 0, err
	}
	site, err := simsite.Start(scenario)
	if err != nil {
		return 0, err
	}
	defer site.Close()
	w, err := site.Wire()
	if err != nil {
		return 0, err
	}
	pace := sweep.Brisk
	order := sweep.Order{Ranges: scenario.Ranges(), Fence: scenario.Subnets(), Pace: pace}
	start := time.Now()
	summary, err := sweep.Run(context.Background(), w, order, func(sweep.Event) {})
	if err != nil {
		return 0, err
	}
	floor := float64(summary.Sent)/pace.Rate + float64(pace.Rounds)
	return time.Since(start).Seconds() / floor, nil
}
