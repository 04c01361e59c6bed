package store

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"time"
	"unique"

	fastjson "github.com/go-json-experiment/json"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/identify"
	"airdrift/core/ledger"
	"airdrift/core/register"
)

// deviceForm is a device as it is stored beside the columns, in JSON. docs/ledger-form.md documents it. Whoever changes it counts
// formVersion up: devices of another version are rebuilt from the sweeps.
type deviceForm struct {
	Version   int             `json:"version"`
	Addrs     []netip.Addr    `json:"addrs,omitempty"`
	MACs      []hwaddr.MAC    `json:"macs,omitempty"`
	Former    []hwaddr.MAC    `json:"formerMacs,omitempty"`
	KeepsMAC  bool            `json:"keepsMac,omitempty"`
	Unit      string          `json:"unit,omitempty"`
	Keys      []ledger.Key    `json:"keys,omitempty"`
	Beliefs   []beliefForm    `json:"beliefs,omitempty"`
	Edition   string          `json:"edition,omitempty"`
	Told      []hwaddr.MAC    `json:"toldMacs,omitempty"`
	Self      string          `json:"self,omitempty"`
	Open      []evidence.Port `json:"open,omitempty"`
	Silent    []evidence.Port `json:"silent,omitempty"`
	Holds     []tenureForm    `json:"holds,omitempty"`
	Presence  ledger.Presence `json:"presence"`
	Missed    int             `json:"missed,omitempty"`
	Standing  ledger.Standing `json:"standing"`
	Entry     *register.Entry `json:"entry,omitempty"`
	MatchedBy string          `json:"matchedBy,omitempty"`
	Linked    bool            `json:"linked,omitempty"`
	Contested []netip.Addr    `json:"contested,omitempty"`
	Traits    []ledger.Trait  `json:"traits,omitempty"`
	Segment   *netip.Prefix   `json:"segment,omitempty"`
	Aside     *asideForm      `json:"aside,omitempty"`
	Note      string          `json:"note,omitempty"`
	Group     string          `json:"group,omitempty"`
	Decisions []uint64        `json:"decisions,omitempty"`
	Was       []uint64        `json:"was,omitempty"`
	FirstSeen *time.Time      `json:"firstSeen,omitempty"`
}

const formVersion = 1

type beliefForm struct {
	Attribute identify.Attribute `json:"attribute"`
	Value     string             `json:"value"`
	Strength  int                `json:"strength"`
}

type tenureForm struct {
	Addr       *netip.Addr `json:"addr,omitempty"`
	MAC        *hwaddr.MAC `json:"mac,omitempty"`
	Unit       string      `json:"unit,omitempty"`
	Vantage    string      `json:"vantage"`
	Since      time.Time   `json:"since"`
	SinceSweep uint64      `json:"sinceSweep"`
	Until      *time.Time  `json:"until,omitempty"`
	UntilSweep uint64      `json:"untilSweep,omitempty"`
}

func toTenureForm(t ledger.Tenure) tenureForm {
	return tenureForm{
		Addr: some(t.Addr, t.Addr.IsValid()), MAC: some(t.MAC, !t.MAC.IsZero()), Unit: t.Unit, Vantage: t.Vantage, Since: t.Since.UTC(), SinceSweep: t.SinceSweep,
		Until: some(t.Until.UTC(), !t.Until.IsZero()), UntilSweep: t.UntilSweep,
	}
}

func (t tenureForm) tenure() ledger.Tenure {
	return ledger.Tenure{
		Addr: given(t.Addr), MAC: given(t.MAC), Unit: t.Unit, Vantage: shared(t.Vantage), Since: t.Since, SinceSweep: t.SinceSweep, Until: given(t.Until), UntilSweep: t.UntilSweep,
	}
}

type asideForm struct {
	Reason string    `json:"reason"`
	By     string    `json:"by"`
	At     time.Time `json:"at"`
}

// toForm writes a device in its form.
func toForm(d ledger.Device) ([]byte, error) {
	f := deviceForm{
		Version: formVersion, Addrs: d.Addrs, MACs: d.MACs, Former: d.Former, KeepsMAC: d.KeepsMAC, Unit: d.Unit, Keys: d.Keys, Edition: d.Edition, Told: d.Told, Self: d.Self,
		Open: d.Open, Silent: d.Silent, Presence: d.Presence, Missed: d.Missed, Standing: d.Standing, MatchedBy: d.MatchedBy, Linked: d.Linked, Group: d.Group, Contested: d.Contested, Traits: d.Traits, Note: d.Note, Entry: d.Entry,
		Decisions: d.Decisions, Was: d.Was, FirstSeen: some(d.FirstSeen.UTC(), !d.FirstSeen.IsZero()), Segment: some(d.Segment, d.Segment.IsValid()),
	}
	for _, c := range d.Identity {
		f.Beliefs = append(f.Beliefs, beliefForm{c.Attribute, c.Value, c.Strength})
	}
	for _, t := range d.Holds {
		f.Holds = append(f.Holds, toTenureForm(t))
	}
	if a := d.Aside; a != nil {
		f.Aside = &asideForm{a.Reason, a.By, a.At.UTC()}
	}
	return json.Marshal(f)
}

// fromForm reads a device from its form.
func fromForm(text []byte) (ledger.Device, error) {
	var f deviceForm
	if err := fastjson.Unmarshal(text, &f); err != nil {
		return ledger.Device{}, err
	}
	if f.Version != formVersion {
		return ledger.Device{}, fmt.Errorf("it is stored in the form %d, and this version reads %d: read the site's sweeps again", f.Version, formVersion)
	}
	d := ledger.Device{
		Addrs: f.Addrs, MACs: f.MACs, Former: f.Former, KeepsMAC: f.KeepsMAC, Unit: f.Unit, Keys: f.Keys, Edition: f.Edition, Told: f.Told, Self: f.Self, Open: f.Open, Silent: f.Silent,
		Presence: f.Presence, Missed: f.Missed, Standing: f.Standing, MatchedBy: f.MatchedBy, Linked: f.Linked, Group: f.Group, Contested: f.Contested, Traits: f.Traits, Note: f.Note, Entry: f.Entry,
		Decisions: f.Decisions, Was: f.Was, FirstSeen: given(f.FirstSeen), Segment: given(f.Segment),
	}
	d.Edition = shared(d.Edition)
	for _, c := range f.Beliefs {
		// Many devices say the same: one copy of each text is enough.
		d.Identity = append(d.Identity, identify.Belief{Attribute: identify.Attribute(shared(string(c.Attribute))), Value: shared(c.Value), Strength: c.Strength})
	}
	for _, t := range f.Holds {
		d.Holds = append(d.Holds, t.tenure())
	}
	if a := f.Aside; a != nil {
		d.Aside = &ledger.Aside{Reason: a.Reason, By: a.By, At: a.At}
	}
	return d, nil
}

// shared gives one copy of a text for all who hold it.
func shared(text string) string { return unique.Make(text).Value() }

// some gives a value where there is one.
func some[T any](value T, is bool) *T {
	if !is {
		return nil
	}
	return &value
}

// given gives what some has made, or the zero value.
func given[T any](value *T) T {
	if value == nil {
		var none T
		return none
	}
	return *value
}
