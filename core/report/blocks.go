package report

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"airdrift/core/finding"
	"airdrift/core/spread"
	"airdrift/core/wording"
)

// block is a part of a document. One of its fields says what it is.
type block struct {
	heading string
	level   int // of the heading, from 1
	text    string
	figures []figure
	bars    *bars
	cells   *cells
	spreads *spreads
	table   *table
}

// figure is a number with what it counts.
type figure struct{ value, label string }

// bars are a picture of how much there is of each of some things, split into parts.
type bars struct {
	title string
	parts []string // legend, by tone
	tones []string
	bars  []bar
}

type bar struct {
	label  string
	values []int
}

// cells are a picture of the addresses of a network.
type cells struct {
	title  string
	text   string
	legend []count
	cells  []Cell
}

// count is how many cells are in a state, and what that is called.
type count struct {
	state Cell
	label string
}

// spreads are a picture of how values lie, on one logarithmic scale.
type spreads struct {
	title, text string
	of          string // what is counted
	middle      string
	scale       spread.Scale
	rows        []spread.Named
}

// date is a time of which the day alone is shown.
type date time.Time

// column is one of a table.
type column struct {
	key    string  // in the words of reports
	weight float64 // of its width
}

// table has rows of text, numbers and times.
type table struct {
	name    string // of the sheet
	columns []column
	rows    [][]any
}

// writer makes blocks of a report in one language.
type writer struct {
	Report
	words *wording.Catalogue
	all   []block
}

// document gives the blocks of a report.
func document(r Report, language string) (title string, blocks []block) {
	w := &writer{Report: r, words: wording.In(language)}
	if title = w.say("title-site", "site", r.Site); r.Extract != "" {
		title = w.say("title-extract", "site", r.Site, "name", r.Extract)
	}
	w.opening()
	if r.Extract == "" {
		w.inventory()
	} else {
		w.extracted()
	}
	w.findings()
	if r.Extract != "" {
		w.times()
		return title, w.all
	}
	w.changes()
	w.completeness()
	w.addresses()
	w.others()
	w.method()
	return title, w.all
}

func (w *writer) say(key string, values ...string) string {
	filled := map[string]string{}
	for i := 0; i+1 < len(values); i += 2 {
		filled[values[i]] = values[i+1]
	}
	return wording.Fill(w.words.Report[key], filled)
}

func (w *writer) add(b block) { w.all = append(w.all, b) }

func (w *writer) heading(level int, text string) { w.add(block{heading: text, level: level}) }

func (w *writer) text(text string) {
	if text != "" {
		w.add(block{text: text})
	}
}

// day writes a time as people read it.
func day(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format("2006-01-02 15:04")
}

func (w *writer) opening() {
	w.text(w.say("at", "at", day(w.At)))
	if w.Audience != "" {
		w.text(w.say("for", "audience", w.Audience))
	}
	w.text(w.say("made", "made", day(w.Made), "version", w.Version))
	w.heading(1, w.say("summary"))
	standing := map[string]int{}
	seen := 0
	for _, d := range w.Devices {
		standing[d.Text("standing")]++
		if d.Text("presence") == "seen" {
			seen++
		}
	}
	number := func(n int) string { return fmt.Sprint(n) }
	open := 0
	for _, f := range w.Findings {
		if f.State != string(finding.Accepted) {
			open++
		}
	}
	figures := []figure{
		{number(seen), w.say("devices-seen")}, {number(standing["unmanaged"]), w.say("unmanaged")}, {number(standing["managed"]), w.say("managed")},
		{number(standing["missing"]), w.say("missing")}, {number(standing["set aside"]), w.say("set-aside")}, {number(open), w.say("findings-open")},
	}
	if w.Extract == "" && len(w.Completeness) > 0 {
		figures = append(figures, figure{w.estimate(), w.say("not-found")})
	}
	w.add(block{figures: figures})
	w.pictures()
}

// estimate writes how many devices were missed in all networks.
func (w *writer) estimate() string {
	var missed, below, above float64
	for _, c := range w.Completeness {
		missed += c.Missed
		below += (c.Missed - c.Low) * (c.Missed - c.Low)
		above += (c.High - c.Missed) * (c.High - c.Missed)
		if !c.Told && c.Seen > 0 {
			return "?"
		}
	}
	low, high := math.Floor(max(0, missed-math.Sqrt(below))), math.Ceil(missed+math.Sqrt(above))
	return fmt.Sprintf("%.0f–%.0f", low, high)
}

// The tones of parts of pictures.
var standingTones = []string{"unmanaged", "managed", "missing", "set aside"}

func (w *writer) pictures() {
	standings := make([]string, len(standingTones))
	for i, s := range standingTones {
		standings[i] = w.words.Standings[s]
	}
	by := func(title string, labels func(Device) []string) {
		counts := map[string][]int{}
		for _, d := range w.Devices {
			for _, label := range labels(d) {
				if counts[label] == nil {
					counts[label] = make([]int, len(standingTones))
				}
				if at := slices.Index(standingTones, d.Text("standing")); at >= 0 {
					counts[label][at]++
				}
			}
		}
		p := &bars{title: title, parts: standings, tones: standingTones}
		for _, label := range slices.Sorted(maps.Keys(counts)) {
			p.bars = append(p.bars, bar{label, counts[label]})
		}
		slices.SortStableFunc(p.bars, func(a, b bar) int { return total(b.values) - total(a.values) })
		p.bars = p.bars[:min(len(p.bars), mostBars)]
		if len(p.bars) > 0 {
			w.add(block{bars: p})
		}
	}
	by(w.say("by-standing"), func(d Device) []string { return d.Networks })
	by(w.say("by-kind"), func(d Device) []string { return []string{d.Text("kind")} })
	severities := &bars{title: w.say("by-severity")}
	for severity := finding.Critical; severity >= finding.Info; severity-- {
		values := make([]int, 1)
		for _, f := range w.Findings {
			if f.Severity == severity && f.State != string(finding.Accepted) {
				values[0]++
			}
		}
		severities.tones = []string{"finding"}
		severities.bars = append(severities.bars, bar{w.words.Severities[severity.String()], values})
	}
	if len(w.Findings) > 0 {
		w.add(block{bars: severities})
	}
	if w.Extract == "" {
		w.overTime()
	}
	w.timesPicture()
}

// timesPicture shows how long devices take in each protocol, in which most of them answered first.
func (w *writer) timesPicture() {
	medians := map[string][]float64{}
	for _, d := range w.Devices {
		for _, t := range d.Times {
			if t.Answers > 0 {
				medians[t.Protocol] = append(medians[t.Protocol], t.Median)
			}
		}
	}
	p := &spreads{title: w.say("times-picture"), text: w.say("times-text"), of: w.say("devices"), middle: w.say("median")}
	p.rows = spread.ByName(medians)
	p.rows = p.rows[:min(len(p.rows), mostSpreads)]
	if p.scale = spread.ScaleOf(p.rows); len(p.rows) > 0 {
		w.add(block{spreads: p})
	}
}

// milliseconds writes a time in milliseconds without what nobody would call a difference.
func milliseconds(ms float64) string {
	if ms >= 100 {
		return strconv.FormatFloat(ms, 'f', 0, 64) + " ms"
	}
	return strconv.FormatFloat(ms, 'g', 3, 64) + " ms"
}

// shownStates are the states of cells in the order of their legend.
var shownStates = []Cell{Seen, Conflict, Silent, Register, Dynamic, Free}

// addresses has a picture of the addresses of each network.
func (w *writer) addresses() {
	w.heading(1, w.say("addresses"))
	for _, n := range w.Networks {
		if len(n.Cells) == 0 {
			continue
		}
		have := map[Cell]int{}
		for _, c := range n.Cells {
			have[c]++
		}
		p := &cells{title: n.Name + " " + n.Subnet, text: w.say("one-cell"), cells: n.Cells}
		if n.Block > 1 {
			p.text = w.say("block-cell", "count", fmt.Sprint(n.Block))
		}
		for _, state := range shownStates {
			if have[state] > 0 {
				p.legend = append(p.legend, count{state, fmt.Sprintf("%s %d", w.words.Cells[string(state)], have[state])})
			}
		}
		w.add(block{cells: p})
	}
}

// mostBars is how many bars one picture has, and mostSpreads how many spreads.
const mostBars, mostSpreads = 16, 10

func total(values []int) (sum int) {
	for _, v := range values {
		sum += v
	}
	return sum
}

// overTime shows how many devices the last sweeps knew.
func (w *writer) overTime() {
	p := &bars{title: w.say("over-time"), parts: []string{w.words.Standings["unmanaged"], w.say("others")}, tones: []string{"unmanaged", "managed"}}
	for _, s := range w.Sweeps {
		if s.Seen > 0 {
			p.bars = append(p.bars, bar{day(s.Began), []int{s.Unmanaged, s.Seen - s.Unmanaged}})
		}
	}
	if p.bars = p.bars[max(0, len(p.bars)-mostBars):]; len(p.bars) > 1 {
		w.add(block{bars: p})
	}
}

func (w *writer) inventory() {
	unmanaged := w.of("unmanaged")
	if len(unmanaged) == 0 {
		w.heading(1, w.say("inventory"))
		w.text(w.say("inventory-none"))
		return
	}
	w.deviceTable("inventory", w.say("inventory-text"), unmanaged)
}

// of gives the devices of a standing.
func (w *writer) of(standing string) (list []Device) {
	for _, d := range w.Devices {
		if d.Text("standing") == standing {
			list = append(list, d)
		}
	}
	return list
}

// list writes the first of several texts, and how many there are besides.
func list(texts []string) string {
	if len(texts) > 2 {
		return fmt.Sprintf("%s, %s +%d", texts[0], texts[1], len(texts)-2)
	}
	return strings.Join(texts, ", ")
}

// names gives what devices are called, those that are called the same once.
func names(devices []Named) string {
	var all []string
	times := map[string]int{}
	for _, d := range devices {
		name := d.Name
		if name == "" {
			name = d.Addr
		}
		if name == "" {
			name = fmt.Sprint(d.ID)
		}
		if times[name]++; times[name] == 1 {
			all = append(all, name)
		}
	}
	for i, name := range all {
		if times[name] > 1 {
			all[i] = fmt.Sprintf("%s (%d)", name, times[name])
		}
	}
	if len(all) > 6 {
		return fmt.Sprintf("%s +%d", strings.Join(all[:6], ", "), len(all)-6)
	}
	return strings.Join(all, ", ")
}

// addrs gives the addresses of devices, where a name stands beside it.
func addrs(devices []Named) string {
	var all []string
	for _, d := range devices {
		if d.Addr != "" && !slices.Contains(all, d.Addr) {
			all = append(all, d.Addr)
		}
	}
	return list(all)
}

// findings has what is wrong rule by rule, the worst first, and what is accepted behind it.
func (w *writer) findings() {
	w.heading(1, w.say("findings"))
	var accepted []Finding
	by := map[string][]Finding{}
	var order []string
	for _, f := range w.Findings {
		if f.State == string(finding.Accepted) {
			accepted = append(accepted, f)
			continue
		}
		key := f.Severity.String() + " " + f.Rule
		if by[key] == nil {
			order = append(order, key)
		}
		by[key] = append(by[key], f)
	}
	if len(order) == 0 {
		w.text(w.say("findings-none"))
	}
	for _, key := range order {
		all := by[key]
		first := all[0]
		w.heading(2, fmt.Sprintf("%s: %s (%d)", w.words.Severities[first.Severity.String()], first.Title, len(all)))
		w.text(first.Because + " " + first.Do)
		if listed, is := w.listedAs(first.Rule); is {
			w.text(w.say("listed", "where", listed))
			continue
		}
		t := &table{name: first.Title, columns: []column{{"device", 2.4}, {"address", 1.8}, {"says", 5}, {"since", 1.2}, {"state", 1.1}}}
		for _, f := range all {
			t.rows = append(t.rows, []any{names(f.Devices), addrs(f.Devices), f.Says, date(f.Since), w.words.States[f.State]})
		}
		w.add(block{table: t})
	}
	if len(accepted) > 0 {
		w.heading(2, w.say("accepted"))
		w.text(w.say("accepted-text"))
		t := &table{name: w.say("accepted"), columns: []column{{"severity", 1}, {"finding", 2}, {"device", 2.4}, {"says", 3}, {"reason", 3}, {"until", 1.5}}}
		for _, f := range accepted {
			t.rows = append(t.rows, []any{w.words.Severities[f.Severity.String()], f.Title, names(f.Devices), f.Says, f.Reason, date(f.Until)})
		}
		w.add(block{table: t})
	}
}

// listedAs gives under which heading the devices of a rule are listed anyway.
func (w *writer) listedAs(rule string) (heading string, is bool) {
	if w.Extract != "" {
		return "", false
	}
	switch rule {
	case "unmanaged":
		return w.say("inventory"), true
	case "missing":
		return w.say("missing"), true
	}
	return "", false
}

func (w *writer) times() {
	t := &table{name: w.say("times"), columns: []column{{"device", 2.4}, {"address", 1.8}, {"protocol", 1.4}, {"answers", 1}, {"lost", 1}, {"median", 1}, {"most", 1}, {"worst", 1}}}
	for _, d := range w.Devices {
		for _, times := range d.Times {
			t.rows = append(t.rows, []any{d.Text("name"), list(d.Texts("address")), times.Protocol, times.Answers, times.Lost, times.Median, times.Most, times.Worst})
		}
	}
	if len(t.rows) > 0 {
		w.heading(1, w.say("times"))
		w.add(block{table: t})
	}
}

func (w *writer) changes() {
	w.heading(1, w.say("changes", "since", day(w.Since)))
	if len(w.Sweeps) == 1 {
		w.text(w.say("changes-first"))
		return
	}
	if len(w.Changes) == 0 {
		w.text(w.say("changes-none"))
		return
	}
	t := &table{name: w.say("changes", "since", w.Since.UTC().Format(time.DateOnly)), columns: []column{{"when", 1.9}, {"what", 1.2}, {"device", 2.2}, {"address", 1.8}, {"attribute", 1.3}, {"before", 2.4}, {"after", 2.4}}}
	for _, c := range w.Changes {
		t.rows = append(t.rows, []any{c.At, c.Kind, names([]Named{c.Device}), c.Device.Addr, c.Attribute, c.Before, c.After})
	}
	w.add(block{table: t})
}

func (w *writer) completeness() {
	if len(w.Completeness) == 0 && len(w.Unswept) == 0 {
		return
	}
	w.heading(1, w.say("complete"))
	w.text(w.say("complete-text"))
	t := &table{name: w.say("complete"), columns: []column{{"network", 1.6}, {"subnet", 1.8}, {"sweep", 0.9}, {"seen", 0.8}, {"missed", 1}, {"from", 0.7}, {"to", 0.7}, {"ways", 5}}}
	advice := map[string][]string{}
	for _, c := range w.Completeness {
		missed, low, high := any("?"), any("?"), any("?")
		if c.Told {
			missed, low, high = c.Missed, math.Floor(c.Low), math.Ceil(c.High)
		}
		t.rows = append(t.rows, []any{c.Network, c.Subnet, c.Sweep, c.Seen, missed, low, high, strings.Join(c.Ways, ", ")})
		for _, a := range c.Advice {
			advice[a] = append(advice[a], c.Network)
		}
	}
	if len(t.rows) > 0 {
		w.add(block{table: t})
	}
	if len(w.Unswept) > 0 {
		w.text(w.say("unswept", "networks", strings.Join(w.Unswept, ", ")))
	}
	if len(advice) > 0 {
		w.heading(2, w.say("helps"))
	}
	for _, a := range slices.Sorted(maps.Keys(advice)) {
		w.text(strings.Join(advice[a], ", ") + ": " + w.words.Advice[a])
	}
	w.heading(2, w.say("assumptions"))
	for _, a := range w.words.Assumptions {
		w.text(a)
	}
}

func (w *writer) others() {
	w.deviceTable("missing", w.say("missing-text"), w.of("missing"))
	w.deviceTable("managed", w.say("managed-text"), w.of("managed"))
	w.deviceTable("set-aside", w.say("aside-text"), w.of("set aside"))
}

func (w *writer) method() {
	w.heading(1, w.say("method"))
	w.text(w.say("fence-text"))
	t := &table{name: w.say("method"), columns: []column{{"network", 2}, {"subnet", 2}, {"purpose", 2}}}
	for _, n := range w.Networks {
		t.rows = append(t.rows, []any{n.Name, n.Subnet, n.Purpose})
	}
	w.add(block{table: t})
	if len(w.Credentials) > 0 {
		w.text(w.say("credentials", "names", strings.Join(w.Credentials, ", ")))
	} else {
		w.text(w.say("credentials-none"))
	}
	w.heading(2, w.say("sweeps"))
	t = &table{name: w.say("sweeps"), columns: []column{{"sweep", 0.9}, {"began", 1.9}, {"ended", 1.9}, {"state", 1}, {"vantage", 2}, {"ranges", 3}, {"pace", 1}, {"answered", 1.2}, {"sent", 1.1}}}
	signatures := &table{name: w.say("signatures"), columns: []column{{"sweep", 0.8}, {"began", 1.7}, {"signature", 6}}}
	for _, s := range w.Sweeps {
		ranges := s.Ranges
		if s.LeftOut != "" {
			ranges += "; " + strings.ToLower(w.say("left-out")) + ": " + s.LeftOut
		}
		t.rows = append(t.rows, []any{s.ID, s.Began, s.Ended, s.State, s.Vantage, ranges, s.Pace, s.Answered, s.Sent})
		signatures.rows = append(signatures.rows, []any{s.ID, s.Began, s.Signature})
	}
	w.add(block{table: t})
	w.heading(2, w.say("signatures"))
	w.text(w.say("signatures-text"))
	w.add(block{table: signatures})
}
