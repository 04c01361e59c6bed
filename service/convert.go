package service

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"
	"time"

	"airdrift/api"
	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/identify"
	"airdrift/core/inventory"
	"airdrift/core/ledger"
	"airdrift/core/probe"
	"airdrift/core/register"
	"airdrift/core/registry"
	"airdrift/core/sweep"
	"airdrift/store"
)

func toAPINetwork(n store.Network) api.Network {
	return api.Network{Name: n.Name, Subnet: n.Subnet.String(), Purpose: n.Purpose, Gateway: addrText(n.Gateway), Pool: n.Pool}
}

func toSite(s store.Site) api.Site {
	site := api.Site{ID: s.ID, Name: s.Name, Networks: []api.Network{}, NameServers: addrTexts(s.NameServers), Keeping: api.Keeping(s.Keeping), Zone: s.Zone}
	for _, n := range s.Networks {
		site.Networks = append(site.Networks, toAPINetwork(n))
	}
	return site
}

func toSweep(s store.Sweep) api.Sweep {
	out := api.Sweep{
		ID: s.ID, Site: s.SiteID, Name: s.Name, Vantage: s.Vantage, Ranges: s.Ranges, Exclusions: s.Exclusions, Pace: s.Pace,
		Figures: toPace(s.Figures), Ports: s.Ports, Plan: toPlan(s.Plan), StartedBy: s.StartedBy,
		State: string(s.State), Began: s.Began, Addresses: s.Addresses, Answered: s.Answered, Sent: s.Sent,
		Warnings: texts(s.Warnings), Failure: s.Failure,
		Appeared: s.Appeared, Vanished: s.Vanished, Moved: s.Moved, Changed: s.Changed, Pinned: s.Pinned, Thinned: s.Thinned,
	}
	out.Ended = known(s.Ended)
	return out
}

func toPace(p sweep.Pace) api.Pace {
	return api.Pace{
		Rate: p.Rate, Devices: p.Devices, PerDevice: p.PerDevice, PerNetwork: p.PerNetwork, Rounds: p.Rounds,
		Broadcasts: p.Broadcasts, Gap: int(p.Gap / time.Millisecond),
	}
}

// known gives nil for a time that has not come.
func known(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

// texts gives an empty list rather than none, so that JSON has [] and not null.
func texts(list []string) []string {
	if list == nil {
		return []string{}
	}
	return list
}

func toProgress(p sweep.Progress) api.Progress {
	return api.Progress{Stage: string(p.Stage), Done: p.Done, Total: p.Total, Found: p.Found, Rate: p.Rate, Seconds: p.Left.Seconds()}
}

func toSighting(s evidence.Sighting, whole bool, engine *identify.Engine) api.Sighting {
	identity := engine.Identify(s.Items)
	return api.Sighting{
		Addr: addrText(s.Addr), MAC: s.MAC.String(), Unit: s.Unit, Vendor: identity.Of(identify.Vendor), Kind: identity.Of(identify.Kind),
		Name: identity.Of(identify.Name), Ports: toPorts(s.Items), Whole: whole,
	}
}

// addrText gives "" for what has no address.
func addrText(a netip.Addr) string {
	if !a.IsValid() {
		return ""
	}
	return a.String()
}

func toFact(item evidence.Item) api.Fact {
	return api.Fact{
		Source: string(item.Source), Key: item.Key, Port: item.Port.String(), Value: item.Value, At: item.At,
		RTT: float64(item.RTT.Microseconds()) / 1000,
	}
}

// toPorts groups what was said by the port where it was said, in order of the ports. Of datagrams a port is one at which
// something was said.
func toPorts(items []evidence.Item) []api.Port {
	byPort := map[evidence.Port]*api.Port{}
	var order []evidence.Port
	for _, item := range items {
		if (item.Key == evidence.KeyTCPOpen || item.Port.Proto == "udp") && byPort[item.Port] == nil {
			byPort[item.Port] = &api.Port{Port: item.Port.String(), Service: registry.ServiceName(item.Port), Words: []api.Fact{}}
			order = append(order, item.Port)
		}
	}
	for _, item := range items {
		if p := byPort[item.Port]; p != nil && item.Key != evidence.KeyTCPOpen && !isRow(item.Key) {
			p.Words = append(p.Words, toFact(item))
		}
	}
	slices.SortFunc(order, func(a, b evidence.Port) int {
		return cmp.Or(strings.Compare(a.Proto, b.Proto), cmp.Compare(a.Number, b.Number))
	})
	ports := make([]api.Port, len(order))
	for i, p := range order {
		ports[i] = *byPort[p]
	}
	return ports
}

// isRow tells facts that are rows of tables, which are shown as such.
func isRow(key string) bool { return key == evidence.KeySNMPInterface || key == evidence.KeySNMPPart }

// toInterfaces gives the interfaces of a device, each once, though its agent may have been asked at several addresses.
func toInterfaces(items []evidence.Item) []api.Interface {
	list := []api.Interface{}
	told := map[int]bool{}
	here := probe.SpokenFrom(items)
	for _, row := range evidence.Rows[evidence.Interface](items, evidence.KeySNMPInterface) {
		if told[row.Index] {
			continue
		}
		told[row.Index] = true
		state := "down"
		switch {
		case row.Up:
			state = "up"
		case row.Off:
			state = "off"
		}
		list = append(list, api.Interface{
			Index: row.Index, Name: row.Name, Alias: row.Alias, MAC: row.MAC, Speed: row.Speed, State: state, In: row.In, Out: row.Out,
			Here: slices.ContainsFunc([]string{row.Name, row.Alias, row.MAC}, func(name string) bool { return name != "" && slices.Contains(here, name) }),
		})
	}
	return list
}

func toParts(items []evidence.Item) []api.Part {
	list := []api.Part{}
	for _, row := range evidence.Rows[evidence.Part](items, evidence.KeySNMPPart) {
		list = append(list, api.Part(row))
	}
	return list
}

// toCertificates puts what was learned of TLS together by port.
func toCertificates(items []evidence.Item) []api.Certificate {
	list := []api.Certificate{}
	at := map[evidence.Port]int{}
	for _, item := range items {
		if item.Source != evidence.SourceTLS {
			continue
		}
		i, known := at[item.Port]
		if !known {
			i = len(list)
			at[item.Port] = i
			list = append(list, api.Certificate{Port: item.Port.String(), Names: []string{}})
		}
		addToCertificate(&list[i], item)
	}
	return list
}

func addToCertificate(c *api.Certificate, item evidence.Item) {
	switch item.Key {
	case evidence.KeyTLSSubject:
		c.Subject = item.Value
	case evidence.KeyTLSIssuer:
		c.Issuer = item.Value
	case evidence.KeyTLSName:
		c.Names = append(c.Names, item.Value)
	case evidence.KeyTLSKey:
		c.Key = item.Value
	case evidence.KeyTLSVersion:
		c.Version = item.Value
	case evidence.KeyTLSFrom, evidence.KeyTLSUntil:
		when, err := time.Parse(time.RFC3339, item.Value)
		if err != nil {
			return
		}
		if item.Key == evidence.KeyTLSFrom {
			c.From = &when
		} else {
			c.Until, c.Expired = &when, when.Before(time.Now())
		}
	}
}

func addrTexts(addrs []netip.Addr) []string {
	out := make([]string, len(addrs))
	for i, a := range addrs {
		out[i] = a.String()
	}
	return out
}

// blinksBy gives the protocol by which a device can be told to show itself; "" where there is none.
func blinksBy(d ledger.Device) string {
	if p := probe.BlinksBy(d.Items); p != nil && len(d.Addrs) > 0 {
		return p.Name
	}
	return ""
}

func toDevice(site uint64, d ledger.Device, identity identify.Identity, overlay *registry.Table) api.Device {
	out := api.Device{
		DeviceLine: api.LineOf(inventory.LineOf(d)),
		Site:       site,
		MACs:       []api.MAC{},
		Shared:     addrTexts(d.Contested),
		Claims:     []api.Claim{},
		Settle:     []string{},
		Ports:      toPorts(d.Items),
		Evidence:   []api.Fact{},
		LastSweep:  d.LastSweep,
		MatchedBy:  d.MatchedBy,
		Linked:     d.Linked,
		Reasons:    texts(d.Reasons),
		Note:       d.Note,
		Links:      linksTo(d),
		Unanswered: api.Unanswered{Ports: []string{}, Protocols: []string{}},
		Blinks:     blinksBy(d),

		Interfaces:   toInterfaces(d.Items),
		Parts:        toParts(d.Items),
		Names:        namesOf(identity),
		Certificates: toCertificates(d.Items),
	}
	if d.Aside != nil {
		out.Aside = &api.Aside{Reason: d.Aside.Reason, By: d.Aside.By, At: d.Aside.At}
	}
	for _, m := range d.MACs {
		vendor := registry.Find(m, overlay)
		out.MACs = append(out.MACs, api.MAC{MAC: m.String(), Vendor: identify.VendorName(vendor.Organisation), Private: vendor.Private, Shared: vendor.Shared, Former: slices.Contains(d.Former, m)})
	}
	for _, c := range identity {
		out.Claims = append(out.Claims, toClaim(c))
	}
	if identity.Of(identify.Kind) == identify.Unknown && d.Unit == "" {
		out.Settle = texts(identify.Settle(d.Items))
	}
	for _, item := range d.Items {
		out.Evidence = append(out.Evidence, toFact(item))
	}
	if d.Entry != nil {
		entry := toEntry(*d.Entry)
		out.Entry = &entry
	}
	return out
}

// explained gives what is believed of a device with what speaks for it. Reasons are not stored: the rules give them from the evidence.
func explained(d ledger.Device, engine *identify.Engine) identify.Identity {
	identity := engine.Identify(d.Items)
	for _, was := range d.Identity {
		i := slices.IndexFunc(identity, func(c identify.Claim) bool { return c.Attribute == was.Attribute })
		if i < 0 {
			i, identity = len(identity), append(identity, identify.Claim{Attribute: was.Attribute})
		}
		if claim := &identity[i]; claim.Value != was.Value {
			claim.Value, claim.Strength = was.Value, was.Strength
			claim.Conflict = "The rules have changed since the site's sweeps were evaluated; when they are re-evaluated, this changes."
		}
	}
	return identity
}

// unexplained gives what is believed of a device, where the site's rules cannot be read.
func unexplained(d ledger.Device) identify.Identity {
	identity := make(identify.Identity, len(d.Identity))
	for i, b := range d.Identity {
		identity[i] = identify.Claim{Attribute: b.Attribute, Value: b.Value, Strength: b.Strength}
	}
	return identity
}

func toClaim(c identify.Claim) api.Claim {
	claim := api.Claim{Attribute: string(c.Attribute), Value: c.Value, Strength: c.Strength, Candidates: []api.Candidate{}, Conflict: c.Conflict, Perhaps: c.Perhaps}
	for _, candidate := range c.Others {
		reasons := make([]api.Reason, len(candidate.Reasons))
		for i, r := range candidate.Reasons {
			reasons[i] = api.Reason{Rule: r.Rule, Because: r.Because, Strength: r.Strength, Fact: toFact(r.Item)}
		}
		claim.Candidates = append(claim.Candidates, api.Candidate{Value: candidate.Value, Strength: candidate.Strength, Reasons: reasons, BuiltOn: candidate.BuiltOn, Besides: candidate.Besides})
	}
	return claim
}

func toEntry(e register.Entry) api.Entry {
	out := api.Entry{
		ID: e.ID, Name: e.Name, MAC: e.MAC.String(), Vendor: e.Vendor, Model: e.Model, Kind: e.Kind, Location: e.Location,
		Responsible: e.Responsible, Note: e.Note, Extra: e.Extra,
	}
	if e.Addr.IsValid() {
		out.Addr = e.Addr.String()
	}
	return out
}

func toVendor(mac hwaddr.MAC, overlay *registry.Table) api.Vendor {
	found := registry.Find(mac, overlay)
	out := api.Vendor{
		MAC: mac.String(), Organisation: found.Organisation, Vendor: identify.VendorName(found.Organisation),
		Private: found.Private, Shared: found.Shared, Group: mac.IsGroup(), FromSite: found.FromSite,
	}
	if found.Organisation != "" {
		out.Prefix = found.Prefix.String()
	}
	return out
}
