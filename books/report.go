package books

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/finding"
	"airdrift/core/inventory"
	"airdrift/core/ledger"
	"airdrift/core/report"
	"airdrift/core/wording"
	"airdrift/store"
)

// ReportQuery says what a report is of.
type ReportQuery struct {
	Site     uint64
	Extract  string    // its name, where it is of some devices
	Audience string    // whom it is for
	Devices  []uint64  // those of an extract; nil for all
	At       time.Time // the day that it shows; zero for now
	Since    time.Time // from when on changes are told; zero for those of the newest sweep
	Language string
	Version  string
}

const (
	// mostChanges is how many changes a report tells.
	mostChanges = 5000
	// mostFindings is more findings than a site has.
	mostFindings = 10_000_000
	// shownSweeps is of how many sweeps it is told what they have seen.
	shownSweeps = 16
)

// Report gathers what a report tells. Of a day that has passed the ledger is computed anew from the sweeps up to it, so that devices are as they were known
// then; the register and what people have said are as they are now.
func (k *Books) Report(ctx context.Context, q ReportQuery) (r report.Report, err error) {
	site, err := k.store.Site(ctx, q.Site)
	if err != nil {
		return r, err
	}
	now := time.Now().UTC()
	if q.At.IsZero() || q.At.After(now) {
		q.At = now
	}
	sweeps, err := k.store.AllSweeps(ctx, q.Site)
	if err != nil {
		return r, err
	}
	if len(sweeps) == 0 {
		return r, refuse("the site has not been swept yet: there is nothing to report")
	}
	if q.At.Before(sweeps[0].Began) {
		return r, refuse("at: nothing is known of %s: the first sweep began on %s", q.At.Format(time.DateOnly), sweeps[0].Began.Format(time.DateOnly))
	}
	all := len(sweeps)
	sweeps = slices.DeleteFunc(sweeps, func(s store.Sweep) bool { return s.Began.After(q.At) })
	if q.Since.IsZero() {
		q.Since = sweeps[len(sweeps)-1].Began
	}
	if q.Since.After(q.At) {
		return r, refuse("since: %s lies behind the day of the report", q.Since.Format(time.DateOnly))
	}
	r = report.Report{Site: site.Name, Extract: q.Extract, Audience: q.Audience, At: q.At, Since: q.Since, Made: now, Version: q.Version}
	devices, err := k.reported(ctx, q)
	if err == nil && len(sweeps) < all {
		devices, err = k.then(ctx, site, sweeps[len(sweeps)-1], devices, q.Extract != "")
	}
	if err != nil {
		return r, err
	}
	if r.Devices, err = k.toReported(ctx, site, devices); err != nil {
		return r, err
	}
	if r.Findings, err = k.findingsAt(ctx, q); err != nil {
		return r, err
	}
	if err := k.addTimes(ctx, sweeps, r.Devices); err != nil || q.Extract != "" {
		return r, err
	}
	return r, k.addSite(ctx, &r, site, sweeps, devices, q)
}

// reported gives the devices of a report.
func (k *Books) reported(ctx context.Context, q ReportQuery) (devices []ledger.Device, err error) {
	numbers := q.Devices
	if q.Extract == "" {
		if numbers, err = k.store.DeviceNumbers(ctx, q.Site); err != nil {
			return nil, err
		}
	}
	devices, err = k.store.DevicesOf(ctx, q.Site, numbers)
	if err != nil {
		return nil, err
	}
	if q.Extract != "" {
		order := make(map[uint64]int, len(numbers))
		for i, n := range numbers {
			order[n] = i
		}
		slices.SortFunc(devices, func(a, b ledger.Device) int { return order[a.ID] - order[b.ID] })
		return devices, nil
	}
	sortByPlace(devices)
	return devices, nil
}

func sortByPlace(devices []ledger.Device) {
	slices.SortStableFunc(devices, func(a, b ledger.Device) int { return placeOf(a).Compare(placeOf(b)) })
}

// then gives devices as they were known once a sweep had ended, in the order in which they are given; only asks for no others than these. What was several
// devices then and is one now is told as the several.
func (k *Books) then(ctx context.Context, site store.Site, last store.Sweep, now []ledger.Device, only bool) ([]ledger.Device, error) {
	b, err := k.bookkeeper(ctx, site)
	if err != nil {
		return nil, err
	}
	devices, err := k.store.Preview(ctx, site.ID, &store.SweepMark{Began: last.Began, ID: last.ID}, store.Rebuilding{Begin: b.begin, Enter: b.enter, Match: b.match, Settle: b.settleAll})
	if errors.Is(err, store.ErrThinned) {
		return nil, refuse("at: %v", err)
	}
	place, entries := map[uint64]int{}, map[uint64]uint64{}
	for i, d := range now {
		place[d.ID] = i
		for _, number := range d.Was {
			place[number] = i
		}
		if d.Entry != nil {
			entries[d.Entry.ID] = d.ID
		}
	}
	for i := range devices {
		if d := &devices[i]; d.ID == 0 && d.Entry != nil { // it was never seen until then
			d.ID = entries[d.Entry.ID]
		}
	}
	if only {
		devices = slices.DeleteFunc(devices, func(d ledger.Device) bool { _, meant := place[d.ID]; return !meant })
		slices.SortStableFunc(devices, func(a, b ledger.Device) int { return place[a.ID] - place[b.ID] })
		return devices, err
	}
	sortByPlace(devices)
	return devices, err
}

// placeOf gives where a device stands: its first address, that which it stands behind, or that which the register says; invalid of one without any.
func placeOf(d ledger.Device) netip.Addr {
	switch {
	case len(d.Addrs) > 0:
		return d.Addrs[0]
	case d.Unit != "":
		a, _ := netip.ParseAddr(d.Unit[strings.LastIndex(d.Unit, " ")+1:])
		return a
	case d.Entry != nil:
		return d.Entry.Addr
	}
	return netip.Addr{}
}

func (k *Books) toReported(ctx context.Context, site store.Site, devices []ledger.Device) ([]report.Device, error) {
	wanted, err := k.Wanted(ctx, site.ID)
	if err != nil {
		return nil, err
	}
	list := make([]report.Device, len(devices))
	for i, d := range devices {
		line := inventory.LineOf(d)
		one := report.Device{
			Line: line, Wanted: wanted(line.Text("vendor"), line.Text("model")), Note: d.Note, MACs: []string{}, Networks: networksOf(site, d), Services: []string{},
		}
		if d.Unit != "" {
			line.Values["address"] = []string{d.Unit}
		}
		for _, m := range d.PresentMACs() {
			one.MACs = append(one.MACs, m.String())
		}
		for _, p := range d.Open {
			one.Services = append(one.Services, p.String())
		}
		if e := d.Entry; e != nil && d.FirstSeen.IsZero() { // all that is known of it is what the register says
			if e.Addr.IsValid() {
				line.Values["address"] = []string{e.Addr.String()}
			}
			if !e.MAC.IsZero() {
				one.MACs = []string{e.MAC.String()}
			}
		}
		if d.Aside != nil {
			one.Aside = d.Aside.Reason
		}
		list[i] = one
	}
	return list, nil
}

// networksOf gives the names of the networks of a site that a device has addresses in.
func networksOf(site store.Site, d ledger.Device) []string {
	names := []string{}
	addrs := d.Addrs
	if a := placeOf(d); a.IsValid() {
		addrs = append(slices.Clone(addrs), a)
	}
	for _, n := range site.Networks {
		if slices.ContainsFunc(addrs, n.Subnet.Contains) && !slices.Contains(names, n.Name) {
			names = append(names, n.Name)
		}
	}
	return names
}

// findingsAt gives the findings that were open or accepted on the day of the report.
func (k *Books) findingsAt(ctx context.Context, q ReportQuery) ([]report.Finding, error) {
	query := store.FindingQuery{Site: q.Site, Limit: mostFindings}
	if q.Extract != "" {
		query.Devices = append(slices.Clone(q.Devices), 0)
	}
	found, err := k.store.Findings(ctx, query)
	if err != nil {
		return nil, err
	}
	own, err := k.OwnRules(ctx, q.Site, nil)
	if err != nil {
		return nil, err
	}
	meant := map[uint64]bool{}
	for _, number := range q.Devices {
		meant[number] = true
	}
	list := []report.Finding{}
	for _, f := range found {
		if f.Since.After(q.At) || f.State == finding.Closed && !f.ClosedAt.After(q.At) {
			continue
		}
		text, _ := finding.TextOf(q.Language, f.Rule, own)
		one := report.Finding{ID: f.ID, Rule: f.Rule, Severity: f.Severity, State: string(f.State), Because: text.Because, Do: text.Do, Evidence: f.Evidence, Since: f.Since, Devices: []report.Named{}}
		one.Title, one.Says = f.Said(q.Language, own)
		switch {
		case f.State == finding.Accepted:
			one.Until, one.Reason = f.Accepted.Until, f.Accepted.Reason
		case f.State == finding.Closed: // since
			one.State = string(finding.Open)
		case f.Confirmed != nil:
			one.State = "confirmed"
		}
		for _, d := range f.On {
			if q.Extract != "" && !meant[d.ID] {
				continue // it is nobody's business who is given the extract
			}
			one.Devices = append(one.Devices, report.Named{ID: d.ID, Name: d.Name, Addr: d.Addr})
		}
		list = append(list, one)
	}
	return list, nil
}

// addTimes adds how long devices took over their answers in the newest sweep that timed any.
func (k *Books) addTimes(ctx context.Context, sweeps []store.Sweep, devices []report.Device) error {
	at := make(map[uint64]int, len(devices))
	for i, d := range devices {
		at[d.ID] = i
	}
	for _, s := range slices.Backward(sweeps[max(0, len(sweeps)-shownSweeps):]) {
		of, err := k.store.AllTimes(ctx, s.ID)
		if err != nil {
			return err
		}
		for number, times := range of {
			i, meant := at[number]
			if !meant || devices[i].Times != nil {
				continue
			}
			for _, t := range times {
				ms := evidence.Milliseconds
				devices[i].Times = append(devices[i].Times, report.Times{Protocol: t.Protocol, Answers: t.Answers, Lost: t.Lost, Median: ms(t.Median), Most: ms(t.Most), Worst: ms(t.Worst)})
			}
		}
	}
	return nil
}

// addSite adds what only the report of a whole site tells.
func (k *Books) addSite(ctx context.Context, r *report.Report, site store.Site, sweeps []store.Sweep, devices []ledger.Device, q ReportQuery) error {
	if q.Since.Equal(sweeps[0].Began) {
		q.Since = q.Since.Add(time.Microsecond) // on the first one everything appears
	}
	changes, err := k.store.Changes(ctx, store.ChangeQuery{Site: site.ID, Since: q.Since, Until: q.At, Limit: mostChanges})
	if err != nil {
		return err
	}
	for _, c := range changes {
		r.Changes = append(r.Changes, report.Change{At: c.Began, Sweep: c.Sweep, Kind: string(c.Kind), Device: report.Named{ID: c.Device, Name: c.Name, Addr: c.Addr}, Attribute: c.Attribute, Before: c.Before, After: c.After})
	}
	figures, unswept, err := k.completeAt(ctx, site, sweeps, 0)
	if err != nil {
		return err
	}
	for _, f := range figures {
		one := report.Completeness{Network: f.Network.Name, Subnet: f.Subnet.String(), Sweep: f.Sweep.ID, Seen: f.Seen, Told: f.Told, Missed: f.Missed, Low: f.Low, High: f.High, Ways: []string{}, Advice: []string{}}
		for _, way := range f.Ways {
			one.Ways = append(one.Ways, fmt.Sprintf("%s %d", wording.In(q.Language).Ways[string(way.Way)], way.Devices))
		}
		for _, a := range f.Advice {
			one.Advice = append(one.Advice, string(a))
		}
		r.Completeness = append(r.Completeness, one)
	}
	for _, n := range unswept {
		r.Unswept = append(r.Unswept, n.Name)
	}
	credentials, err := k.store.Credentials(ctx, site.ID)
	if err != nil {
		return err
	}
	for _, c := range credentials {
		r.Credentials = append(r.Credentials, c.Name)
	}
	spots := spotsOf(devices)
	for _, n := range site.Networks {
		one := report.Network{Name: n.Name, Subnet: n.Subnet.String(), Purpose: n.Purpose, Block: blockOf(n)}
		for _, c := range cellsOf(n, spots) {
			one.Cells = append(one.Cells, c.State)
		}
		r.Networks = append(r.Networks, one)
	}
	return k.addSweeps(ctx, r, sweeps, devices)
}

func (k *Books) addSweeps(ctx context.Context, r *report.Report, sweeps []store.Sweep, devices []ledger.Device) (err error) {
	unmanaged := map[uint64]bool{}
	for _, d := range devices {
		unmanaged[d.ID] = d.Standing == ledger.Unmanaged
	}
	for i, s := range sweeps {
		one := report.Sweep{
			ID: s.ID, Began: s.Began, Ended: s.Ended, State: string(s.State), Vantage: s.Vantage, Ranges: s.Ranges, Pace: s.Pace, Answered: s.Answered, Sent: s.Sent,
			LeftOut: strings.Join(slices.DeleteFunc([]string{s.Exclusions, strings.Join(s.Plan.Off, ", ")}, func(text string) bool { return text == "" }), "; "),
		}
		if !s.Thinned {
			if one.Signature, err = k.store.SweepDigest(ctx, s.ID); err != nil {
				return err
			}
		}
		if !s.Thinned && i >= len(sweeps)-shownSweeps {
			met, err := k.store.DevicesMet(ctx, s.ID)
			if err != nil {
				return err
			}
			one.Seen = len(met)
			for _, number := range met {
				if unmanaged[number] {
					one.Unmanaged++
				}
			}
		}
		r.Sweeps = append(r.Sweeps, one)
	}
	return nil
}
