package books

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"airdrift/core/drift"
	"airdrift/core/finding"
	"airdrift/core/identify"
	"airdrift/core/inventory"
	"airdrift/core/ledger"
	"airdrift/core/register"
	"airdrift/store"
)

// The kinds of act.
const (
	ActAside    = "set-aside"     // devices are set aside; the text is the reason
	ActNote     = "note"          // they are given a note
	ActGroup    = "group"         // they are put into a group; an empty text takes them out of theirs
	ActRegister = "register"      // they are put into the register, as they were seen
	ActTake     = "take"          // what was observed takes the place of what the register says
	ActKeep     = "keep-register" // the register is right: the difference is confirmed as a finding
	ActAccept   = "accept"        // findings are accepted until a day; the text is the reason
	ActConfirm  = "confirm"       // findings are confirmed: they are so, and to be put right
)

// ActKinds are all of them.
var ActKinds = []string{ActAside, ActNote, ActGroup, ActRegister, ActTake, ActKeep, ActAccept, ActConfirm}

// MostActed is how many devices or findings one act may concern.
const MostActed = 5000

// Acting is an act as somebody wants it.
type Acting struct {
	Site       uint64
	Kind       string
	By         string
	Text       string
	Until      time.Time           // of findings that are accepted
	Attributes []string            // of drift; nil for all
	Lines      map[uint64][]string // of drift: attributes by device, in the place of Attributes; nil for none in particular
	Devices    []uint64
	Findings   []uint64
}

// means reports whether an attribute of a device is meant.
func (a Acting) means(device uint64, attribute string) bool {
	if a.Lines != nil {
		return slices.Contains(a.Lines[device], attribute)
	}
	return a.Attributes == nil || slices.Contains(a.Attributes, attribute)
}

// Proposal is what an act would do.
type Proposal struct {
	Steps []store.Step
	Left  []store.Step // what it would leave as it is; Becomes says why
}

// Tag tells the proposal from another.
func (p Proposal) Tag() string {
	sum := sha256.New()
	for _, s := range p.Steps {
		fmt.Fprintf(sum, "%d\x00%s\x00%s\x00%s\x00%d\x00", s.Device, s.Field, s.Was, s.Becomes, s.Finding)
	}
	return hex.EncodeToString(sum.Sum(nil)[:16])
}

// Propose says what an act would do, and leaves everything as it is.
func (k *Books) Propose(ctx context.Context, a Acting) (p Proposal, err error) {
	if len(a.Devices)+len(a.Findings) > MostActed {
		return p, refuse("this concerns %d at once, and at most %d may be: narrow the filter", len(a.Devices)+len(a.Findings), MostActed)
	}
	switch a.Kind {
	case ActAccept, ActConfirm:
		return k.proposeFindings(ctx, a)
	case ActKeep:
		return k.proposeKeeping(ctx, a)
	}
	propose, known := map[string]func(*Proposal, ledger.Device){
		ActAside: a.said(ledger.DecidedAside, func(d ledger.Device) string {
			if d.Aside == nil {
				return ""
			}
			return d.Aside.Reason
		}),
		ActNote:     a.said(ledger.DecidedNote, func(d ledger.Device) string { return d.Note }),
		ActGroup:    a.said(ledger.DecidedGroup, func(d ledger.Device) string { return d.Group }),
		ActRegister: addEntry,
		ActTake:     a.takeObserved,
	}[a.Kind]
	if !known {
		return p, refuse("there is no act %q: want one of %s", a.Kind, strings.Join(ActKinds, ", "))
	}
	devices, err := k.store.DevicesOf(ctx, a.Site, a.Devices)
	if err != nil {
		return p, err
	}
	for _, d := range devices {
		propose(&p, d)
	}
	return p, nil
}

// said proposes a decision of one kind for each device.
func (a Acting) said(kind ledger.DecisionKind, now func(ledger.Device) string) func(*Proposal, ledger.Device) {
	return func(p *Proposal, d ledger.Device) {
		was := now(d)
		if was == a.Text {
			p.leave(d, string(kind), was, "it is so already")
			return
		}
		p.Steps = append(p.Steps, store.Step{
			Device: d.ID, Name: inventory.Called(d), Field: string(kind), Was: was, Becomes: a.Text,
			Decision: &ledger.Decision{Kind: kind, Device: d.ID, Text: a.Text, By: a.By, At: time.Now().UTC()},
		})
	}
}

func (p *Proposal) leave(d ledger.Device, field, was, why string) {
	p.Left = append(p.Left, store.Step{Device: d.ID, Name: inventory.Called(d), Field: field, Was: was, Becomes: why})
}

func addEntry(p *Proposal, d ledger.Device) {
	entry := EntryOf(d)
	switch {
	case d.Entry != nil:
		p.leave(d, "register", d.Entry.Name, "it is in the register already")
	case entry.Name == "" && entry.MAC.IsZero() && !entry.Addr.IsValid():
		p.leave(d, "register", "", "nothing tells it from others")
	default:
		p.Steps = append(p.Steps, store.Step{Device: d.ID, Name: inventory.Called(d), Field: "register", Becomes: describe(entry), Entry: &store.EntryChange{Becomes: &entry}})
	}
}

// describe says in one line what an entry says.
func describe(e register.Entry) string {
	var parts []string
	for _, d := range register.Differences(register.Entry{}, e) {
		parts = append(parts, d.Becomes)
	}
	return strings.Join(parts, ", ")
}

func (a Acting) takeObserved(p *Proposal, d ledger.Device) {
	var fields, were, become []string
	if d.Entry == nil {
		p.leave(d, "register", "", "it is not in the register")
		return
	}
	entry := *d.Entry
	for _, line := range drift.Of(d) {
		if !a.means(d.ID, line.Attribute) {
			continue
		}
		next := drift.Take(entry, d, line.Attribute)
		for _, differs := range register.Differences(entry, next) {
			fields, were, become = append(fields, differs.Field), append(were, differs.Was), append(become, differs.Becomes)
		}
		entry = next
	}
	if fields == nil {
		p.leave(d, "register", "", "register and observation do not differ")
		return
	}
	p.Steps = append(p.Steps, store.Step{
		Device: d.ID, Name: inventory.Called(d), Field: strings.Join(fields, ", "), Was: strings.Join(were, "; "), Becomes: strings.Join(become, "; "), Entry: &store.EntryChange{Was: d.Entry, Becomes: &entry},
	})
}

// proposeKeeping proposes to confirm the findings of where register and observation differ.
func (k *Books) proposeKeeping(ctx context.Context, a Acting) (p Proposal, err error) {
	found, err := k.store.Findings(ctx, store.FindingQuery{Site: a.Site, Rules: []string{finding.DriftRule}, States: []string{string(finding.Open), string(finding.Accepted)}, Devices: a.Devices, Limit: MostActed + 1})
	if err != nil {
		return p, err
	}
	for _, f := range found {
		if a.means(f.Devices[0], f.About) {
			p.finding(f, a)
		}
	}
	return p, nil
}

func (k *Books) proposeFindings(ctx context.Context, a Acting) (p Proposal, err error) {
	found, err := k.store.FindingsOf(ctx, a.Site, a.Findings)
	for _, f := range found {
		p.finding(f, a)
	}
	return p, err
}

// finding proposes to change one finding.
func (p *Proposal) finding(f store.Found, a Acting) {
	step := store.Step{Name: f.Rule, Field: f.Rule, Was: string(f.State), Becomes: string(finding.Accepted), Finding: f.ID}
	if len(f.On) > 0 {
		step.Device, step.Name = f.On[0].ID, cmp.Or(f.On[0].Name, f.On[0].Addr, fmt.Sprintf("device %d", f.On[0].ID))
	}
	already := f.State == finding.Accepted && f.Accepted.Reason == a.Text && f.Accepted.Until.Equal(a.Until)
	if a.Kind != ActAccept {
		step.Field, step.Becomes, already = f.About, "confirmed", f.Confirmed != nil
	}
	switch {
	case f.State == finding.Closed:
		step.Becomes = "it is closed"
		p.Left = append(p.Left, step)
	case already:
		step.Becomes = "it is so already"
		p.Left = append(p.Left, step)
	default:
		p.Steps = append(p.Steps, step)
	}
}

// Perform carries out an act, all of it or nothing. tag is that of the proposal that somebody has seen, or "".
func (k *Books) Perform(ctx context.Context, a Acting, tag string) (act store.Act, left []store.Step, err error) {
	defer k.lock(a.Site)()
	p, err := k.Propose(ctx, a)
	if err != nil {
		return act, nil, err
	}
	if tag != "" && tag != p.Tag() {
		return act, nil, ErrChanged
	}
	if len(p.Steps) == 0 {
		return act, nil, refuse("there is nothing to do: %s", whyNothing(p))
	}
	settle, err := k.settler(ctx, a.Site)
	if err != nil {
		return act, nil, err
	}
	act = store.Act{Kind: a.Kind, Text: a.Text, Until: a.Until, By: a.By, At: time.Now().UTC().Truncate(time.Microsecond), Steps: p.Steps}
	if err := k.store.Act(ctx, a.Site, &act, settle); err != nil {
		return act, nil, asChanged(err)
	}
	k.judged(ctx, a.Site, finding.ByRegister)
	return act, p.Left, nil
}

// asChanged says of a finding that was closed between the proposal and the act that something has changed: judging does not wait for acts.
func asChanged(err error) error {
	if errors.Is(err, store.ErrNotOpen) {
		return ErrChanged
	}
	return err
}

func whyNothing(p Proposal) string {
	if len(p.Left) == 0 {
		return "no device or finding is meant"
	}
	return fmt.Sprintf("%s: %s", p.Left[0].Name, p.Left[0].Becomes)
}

// UndoAct takes back what an act has done, but for what somebody has changed since; it gives how many steps were taken back and how many were left.
func (k *Books) UndoAct(ctx context.Context, by string, id uint64) (back, left int, err error) {
	_, site, err := k.store.ActOf(ctx, id)
	if err != nil {
		return 0, 0, err
	}
	defer k.lock(site)()
	settle, err := k.settler(ctx, site)
	if err != nil {
		return 0, 0, err
	}
	if back, left, err = k.store.UndoAct(ctx, id, by, time.Now().UTC(), settle); err == nil {
		k.judged(ctx, site, finding.ByRegister)
	}
	return back, left, err
}

// EntryOf makes an entry of the register out of what was seen of a device.
func EntryOf(d ledger.Device) register.Entry {
	line := inventory.LineOf(d)
	entry := register.Entry{Name: line.Text("name"), Vendor: line.Text("vendor"), Model: line.Text("model"), Kind: line.Text("kind")}
	if entry.Kind == identify.Unknown {
		entry.Kind = ""
	}
	for _, m := range d.MACs {
		if !m.IsPrivate() && !m.IsShared() {
			entry.MAC = m
			break
		}
	}
	if len(d.Addrs) > 0 {
		entry.Addr = d.Addrs[0]
	}
	return entry
}
