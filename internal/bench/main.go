// Command bench measures the program against its budgets and prints a line "name ratio bound" for each: the ratio is
// what was measured over what is allowed or asked for in the same run. It exits 1 where one misses its bound.
package main

import (
	"airdrift/core/identify/corpus"
	"flag"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strings"
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
	{"packets to a silent address over 10", 1, false, silentPackets},
	{"port questions against a bare loop", 0.9, true, portQuestions},
	{"reading 120,000 objects over its floor", 1.15, false, ofReading(func(f readingFigures) float64 { return f.overFloor })},
	{"memory of that over 128 MiB", 1, false, ofReading(func(f readingFigures) float64 { return f.memory / 128 })},
	{"identify devices/s over 20,000", 1, true, identifyRate},
	{"identify with 8 times the rules, over 8", 0.5, false, identifyGrowth},
	{"right of what the corpus is told", 0.96, true, ofCorpus(corpus.Score.Precision)},
	{"told of what the corpus has to tell", 0.86, true, ofCorpus(corpus.Score.Recall)},
	{"ledger, 100,000 sightings over 2 s", 1, false, ledgerTime},
	{"judging 100,000 devices on one core over 3 s", 1, false, judgingTime},
	{"networks of 200 seeded buildings, swept, whose missed devices lie within the interval", 0.85, true, intervalsHeld},
	{"report of 1,000 devices through the service, in its slowest form, over 5 s", 1, false, func() (float64, error) { return reportTime(1000, 5) }},
	{"report of 20,000 devices through the service, in its slowest form, over 60 s", 1, false, func() (float64, error) { return reportTime(20_000, 60) }},
	{"storing 100,000 over bulk load", 3, false, storing},
	{"list page of 100,000, p95 over 50 ms", 1, false, listPage},
	{"entering 100,000, 1 % changed, over 25 s", 1, false, ofGrown(func(f grownFigures) float64 { return f.entering })},
	{"memory of that over 512 MiB", 1, false, ofGrown(func(f grownFigures) float64 { return f.memory })},
	{"unchanged sighting stored over 200 bytes", 1, false, ofGrown(func(f grownFigures) float64 { return f.bytes })},
	{"note among 100,000, p95 over 30 ms", 1, false, ofGrown(func(f grownFigures) float64 { return f.note })},
	{"text search of 100,000, p95 over 150 ms", 1, false, ofGrown(func(f grownFigures) float64 { return f.search })},
	{"rebuild, sightings/s over 8,000", 1, true, ofRebuilt(func(f rebuiltFigures) float64 { return f.rate })},
	{"memory of a rebuild over 512 MiB", 1, false, ofRebuilt(func(f rebuiltFigures) float64 { return f.memory })},
	{"list page meanwhile, p95 over 100 ms", 1, false, ofRebuilt(func(f rebuiltFigures) float64 { return f.pages })},
	{"console's first page over 250 kB", 1, false, ofBrowsing(func(f browsingFigures) float64 { return f.size })},
	{"console's first paint over 1 s", 1, false, ofBrowsing(func(f browsingFigures) float64 { return f.paint })},
	{"console, 100,000 devices scrolled, longest frame over 50 ms", 1, false, ofBrowsing(func(f browsingFigures) float64 { return f.list })},
	{"console, the same in a sweep that runs", 1, false, ofBrowsing(func(f browsingFigures) float64 { return f.running })},
}

func main() {
	corpusOnly := flag.Bool("corpus", false, "measure how well the corpus is told, and nothing else")
	only := flag.String("only", "", "measure the budgets with this in their names, and no others")
	flag.Parse()
	if !*corpusOnly {
		os.Exit(run(*only))
	}
	if err := tellCorpus(); err != nil {
		fmt.Fprintln(os.Stderr, "corpus:", err)
		os.Exit(1)
	}
}

func run(only string) int {
	missed := 0
	for _, b := range budgets {
		if !strings.Contains(b.name, only) {
			continue
		}
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
		fmt.Printf("\nA roll call of a /16 at 20,000 probes/s: %.0f frames/s, %.2f s of CPU for 1,000 addresses, %.1f MiB above idle.\n", f.frames, f.cpu, f.memory)
	}
	if rate, err := rateUnder(identify.Default(), manyFacts("00:00:01:02:03:04")); err == nil {
		fmt.Printf("A device with %d facts is identified %.0f times a second, one with %d as the budget says.\n", len(manyFacts("")), rate, len(facts("")))
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

// manyFacts is what such a printer says that has an agent, announcements and a print service too.
func manyFacts(mac string) []evidence.Item {
	items := facts(mac)
	for _, said := range [][2]string{
		{evidence.KeySNMPDescr, "Example Laser 9 network printer, revision 2.1"}, {evidence.KeySNMPObject, "1.3.6.1.4.1.2435.2.3.9.1"}, {evidence.KeySNMPEnterprise, "2435"},
		{evidence.KeySNMPName, "hall-printer"}, {evidence.KeySNMPMIB, "printer"}, {evidence.KeySNMPMIB, "host"}, {evidence.KeySNMPServices, "72"},
		{evidence.KeySNMPSerial, "E7J12345"}, {evidence.KeySNMPInterface, `{"index":1,"name":"eth0","mac":"00:00:01:02:03:04","type":6,"speed":100000000,"up":true}`},
		{evidence.KeyMDNSType, "_ipp._tcp"}, {evidence.KeyMDNSType, "_pdl-datastream._tcp"}, {evidence.KeyMDNSText, "_ipp._tcp ty=Brother HL-9"}, {evidence.KeyMDNSHost, "hall.local"},
		{evidence.KeyIPPModel, "Brother HL-9"}, {evidence.KeyIPPDevice, "MFG:Brother;MDL:HL-9;CMD:PJL;"},
	} {
		source, _, _ := strings.Cut(said[0], ".")
		items = append(items, evidence.Item{Source: evidence.Source(source), Key: said[0], Value: said[1]})
	}
	return items
}

func identifyRate() (float64, error) {
	rate, err := rateUnder(identify.Default(), facts("00:00:01:02:03:04"))
	return rate / 20_000, err
}

// rateUnder gives how many devices a second are identified under some rules, on one core.
func rateUnder(rules *identify.Rules, items []evidence.Item) (float64, error) {
	engine := identify.New(rules, nil)
	registry.IEEE()
	if got := engine.Identify(items).Of(identify.Kind); got != "printer" {
		return 0, fmt.Errorf("the printer is taken for a %s", got)
	}
	const rounds = 20_000
	start := time.Now()
	for range rounds {
		engine.Identify(items)
	}
	return rounds / time.Since(start).Seconds(), nil
}

// identifyGrowth gives how much longer identifying takes with 8 times the rules, over 8. The rules that are added are of all
// forms, are about the facts that devices have, and hold for none.
func identifyGrowth() (float64, error) {
	const times = 8
	own := identify.Default().All()
	var added []identify.Rule
	text := "rules:\n"
	for i := range len(own) * (times - 1) {
		condition := [...]string{
			`{keys: [http.title, snmp.sysDescr, ipp.model], words: [device%[1]d, "network thing%[1]d"]}`,
			`{keys: [snmp.sysDescr, mdns.txt], like: '^Maker%[1]d (\S+) version'}`,
			`{keys: [mdns.type, snmp.sysObjectID], is: "_type%[1]d._tcp"}`,
		}[i%3]
		text += fmt.Sprintf("  - {rule: r%[1]d, because: b, when: ["+condition+"], says: [{attribute: kind, value: camera, strength: 5}]}\n", i)
		if i%1000 < 999 && i < len(own)*(times-1)-1 {
			continue // a file holds a bounded number of rules
		}
		more, err := identify.ReadRules("many", []byte(text))
		if err != nil {
			return 0, err
		}
		added, text = append(added, more...), "rules:\n"
	}
	items := manyFacts("00:00:01:02:03:04")
	few, err := rateUnder(identify.Default(), items)
	if err != nil {
		return 0, err
	}
	many, err := rateUnder(identify.NewRules(append(slices.Clone(own), added...)), items)
	return few / many / times, err
}

// known stands for the engine, whose own time is another budget.
type known struct{}

func (known) Edition() string { return "bench" }

func (known) Identify([]evidence.Item) identify.Identity {
	return identify.Identity{{Attribute: identify.Kind, Value: "printer"}}
}

func ledgerTime() (float64, error) {
	s := ledger.Sweep{ID: 1, Began: time.Now(), Covered: netrange.FromPrefixes(netip.MustParsePrefix("10.0.0.0/8"))}
	s.Sightings = manySightings(s.Began)
	first := ledger.Apply(nil, nil, s, known{})
	for i := range first.Devices {
		first.Devices[i].ID = uint64(i + 1)
	}
	s.ID = 2
	for _, sighting := range s.Sightings { // a store has them
		s.Hashes = append(s.Hashes, evidence.HashOf(sighting.Items))
	}
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
