package simsite_test

import (
	"context"
	"net/netip"
	"slices"
	"testing"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/identify"
	"airdrift/core/probe"
	"airdrift/core/registry"
	"airdrift/core/secret"
	"airdrift/core/sweep"
	"airdrift/simsite"
	"airdrift/simsite/simsitetest"
)

// tally counts how often an attribute was told right, wrong or not at all.
type tally struct{ right, wrong, unknown int }

func (c *tally) count(got, want string) {
	switch got {
	case want:
		c.right++
	case "", identify.Unknown:
		c.unknown++
	default:
		c.wrong++
	}
}

func (c tally) share() float64 { return float64(c.right) / float64(c.right+c.wrong+c.unknown) }

// TestWhoIsIt sweeps the demo building with the credentials that the auditor was given, and holds what is believed of each device
// against what it is. Devices that say nothing but that they are there are not counted: nothing could tell them.
func TestWhoIsIt(t *testing.T) {
	scenario := simsitetest.Demo(t)
	site, err := simsite.Start(scenario)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = site.Close() })
	w, err := site.Wire()
	if err != nil {
		t.Fatal(err)
	}
	facts := factsOf(t, w, scenario)
	liarsAreBounded(t, facts)
	engine := identify.New(identify.Default(), overlayOf(t, scenario))
	var kinds, vendors, models tally
	claims, wrong := 0, 0
	for _, truth := range scenario.Truth() {
		items := facts[firstAddr(truth.Device)]
		if !truth.Visible || len(scenario.Services(truth.Device)) == 0 || !slices.ContainsFunc(items, saysSomething) {
			continue
		}
		identity := engine.Identify(items)
		for _, check := range []struct {
			attribute identify.Attribute
			want      string
			tally     *tally
		}{{identify.Kind, truth.Model.Kind, &kinds}, {identify.Vendor, truth.Model.Maker, &vendors}, {identify.Model, truth.Model.Is, &models}} {
			got := identity.Of(check.attribute)
			if got != "" && got != identify.Unknown && check.want != "" {
				claims++
			}
			if check.want == "" || check.want == identify.Unknown {
				continue
			}
			before := *check.tally
			check.tally.count(got, check.want)
			if check.tally.right == before.right {
				t.Logf("%s: %s is %q, want %q", truth.Device.Name, check.attribute, got, check.want)
			}
			wrong += check.tally.wrong - before.wrong
		}
	}
	t.Logf("kind %.3f %+v, vendor %.3f %+v, model %.3f %+v; %d of %d claims wrong", kinds.share(), kinds, vendors.share(), vendors, models.share(), models, wrong, claims)
	if kinds.share() < 0.97 || vendors.share() < 0.97 || models.share() < 0.90 {
		t.Errorf("too little is told right: kind %.3f, vendor %.3f, model %.3f; want 0.97, 0.97, 0.90", kinds.share(), vendors.share(), models.share())
	}
	if float64(wrong) > 0.01*float64(claims) {
		t.Errorf("%d of %d claims are wrong; want 1 %% at the most", wrong, claims)
	}
}

// maxFacts is more than anything in the building could honestly say.
const maxFacts = 1000

// liarsAreBounded looks at the devices whose agents and responders never come to an end: they are left, that is noted, and what they
// said before stands.
func liarsAreBounded(t *testing.T, facts map[netip.Addr][]evidence.Item) {
	t.Helper()
	for addr, items := range facts {
		if len(items) > maxFacts {
			t.Errorf("%s has told %d facts", addr, len(items))
		}
	}
	for addr, want := range map[string]string{"10.40.1.162": "loop", "10.40.1.163": "rows"} {
		items := facts[netip.MustParseAddr(addr)]
		if !slices.Contains(evidence.Values(items, evidence.KeySNMPBounded), want) || evidence.First(items, evidence.KeySNMPDescr) == "" {
			t.Errorf("the agent at %s was read as %v", addr, evidence.Values(items, evidence.KeySNMPBounded))
		}
	}
	if items := facts[netip.MustParseAddr("10.40.1.161")]; evidence.First(items, evidence.KeyUPnPLocation) == "" || evidence.First(items, evidence.KeyUPnPMaker) != "" {
		t.Errorf("the description that has no end told %v", evidence.Values(items, evidence.KeyUPnPMaker))
	}
	if items := facts[netip.MustParseAddr("10.40.1.164")]; slices.ContainsFunc(items, func(it evidence.Item) bool {
		return it.Source == evidence.SourceMDNS || it.Source == evidence.SourceWSD
	}) {
		t.Errorf("noise is taken for words: %v", items)
	}
}

// saysSomething tells facts that go beyond being there.
func saysSomething(it evidence.Item) bool {
	switch it.Source {
	case evidence.SourceARP, evidence.SourceND, evidence.SourceEcho, evidence.SourceTCP, evidence.SourceStack, evidence.SourceDNS:
		return false
	}
	return true
}

func firstAddr(d simsite.Device) netip.Addr {
	for _, leg := range d.Legs {
		if leg.Address.IsValid() {
			return leg.Address
		}
	}
	return d.Legs[0].Address6
}

func overlayOf(t *testing.T, scenario *simsite.Scenario) *registry.Table {
	table := &registry.Table{}
	for _, p := range scenario.Prefixes {
		prefix, err := registry.ParsePrefix(p.Prefix)
		if err != nil {
			t.Fatal(err)
		}
		table.Add(prefix, p.Maker)
	}
	table.Finish()
	return table
}

// unhurried leaves room for whatever else the machine does: what is told counts here, not how soon.
var unhurried = sweep.Pace{Name: "own", Rate: 1500, Devices: 24, PerDevice: 4, PerNetwork: 400, Rounds: 3}

// factsOf sweeps a building and gives what was learned at each address at which one device alone is.
func factsOf(t *testing.T, w *simsite.Wire, scenario *simsite.Scenario) map[netip.Addr][]evidence.Item {
	order := sweep.Order{
		Ranges: scenario.Ranges(), Fence: scenario.Subnets(), Pace: unhurried, Ports: probe.TellingPorts(), Seed: 1, NameServers: scenario.Vantage.NameServers,
	}
	for i, c := range scenario.Credentials {
		order.Credentials = append(order.Credentials, probe.Credential{ID: uint64(i + 1), Name: c.Name, Version: c.Version, Community: secret.New(c.Community)})
	}
	last := map[netip.Addr]map[string]evidence.Sighting{}
	ctx, cancel := context.WithTimeout(t.Context(), 3*time.Minute)
	defer cancel()
	if _, err := sweep.Run(ctx, w, order, func(e sweep.Event) {
		if e, ok := e.(sweep.Sighted); ok {
			if last[e.Sighting.Addr] == nil {
				last[e.Sighting.Addr] = map[string]evidence.Sighting{}
			}
			last[e.Sighting.Addr][e.Sighting.MAC.String()] = e.Sighting
		}
	}); err != nil {
		t.Fatal(err)
	}
	facts := map[netip.Addr][]evidence.Item{}
	for a, sightings := range last {
		for _, s := range sightings {
			if len(sightings) == 1 {
				facts[a] = s.Items
			}
		}
	}
	return facts
}
