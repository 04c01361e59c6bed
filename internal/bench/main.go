// Command bench measures the program against its budgets and prints a line "name ratio bound" for each: the ratio is
// what was measured over what is allowed or asked for in the same run. It exits 1 where one misses its bound.
package main

import (
	"fmt"
	"net/netip"
	"os"
	"sync"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/identify"
	"airdrift/core/ledger"
	"airdrift/core/netrange"
	"airdrift/core/registry"
)

// budget is one measurement and the bound it must keep.
type budget struct {
	name    string
	bound   float64
	atLeast bool // the ratio must be at least the bound rather than at most
	measure func() (float64, error)
}

var budgets = []budget{
	{"roll call of a /16 over its floor", 1.15, false, ofRollCall(func(f rollCallFigures) float64 { return f.overFloor })},
	{"memory of a /16 sweep over 64 MiB", 1, false, ofRollCall(func(f rollCallFigures) float64 { return f.memory / 64 })},
	{"found at 5 % loss", 0.999, true, func() (float64, error) { return foundAt(0.05) }},
	{"found at 20 % loss", 0.99, true, func() (float64, error) { return foundAt(0.20) }},
	{"port questions against a bare loop", 0.9, true, portQuestions},
	{"identify devices/s over 20,000", 1, true, identifyRate},
	{"ledger, 100,000 sightings over 2 s", 1, false, ledgerTime},
	{"storing 100,000 over bulk load", 3, false, storing},
	{"list page of 100,000, p95 over 50 ms", 1, false, listPage},
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
		fmt.Printf("%-38s %8.4f  %s %.3f%s\n", b.name, ratio, word, b.bound, verdict)
	}
	if f, err := rollCallOnce(); err == nil {
		fmt.Printf("\nA roll call of a /16 at 20,000 questions a second: %.0f frames/s, %.2f s of CPU for 1,000 addresses, %.1f MiB above idle.\n", f.frames, f.cpu, f.memory)
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
	s := ledger.Sweep{ID: 1, Began: time.Now(), Covered: netrange.FromPrefixes(netip.MustParsePrefix("10.0.0.0/8"))}
	s.Sightings = manySightings(s.Began)
	first := ledger.Apply(nil, nil, s, known{})
	s.ID = 2
	start := time.Now()
	again := ledger.Apply(first.Devices, nil, s, known{})
	took := time.Since(start)
	if len(again.Devices) != many || len(again.Changes) != 0 {
		return 0, fmt.Errorf("%d devices and %d changes came of the same %d sightings", len(again.Devices), len(again.Changes), many)
	}
	return took.Seconds() / 2, nil
}

var rollCallOnce = sync.OnceValues(rollCall16)

// ofRollCall picks a figure of the one roll call of a /16.
func ofRollCall(pick func(rollCallFigures) float64) func() (float64, error) {
	return func() (float64, error) {
		f, err := rollCallOnce()
		return pick(f), err
	}
}
