package service

import (
	"cmp"
	"net/netip"
	"slices"
	"time"

	"airdrift/api"
	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/identify"
	"airdrift/core/ledger"
	"airdrift/core/register"
	"airdrift/core/registry"
	"airdrift/core/sweep"
	"airdrift/store"
)

func toSite(s store.Site) api.Site {
	site := api.Site{ID: s.ID, Name: s.Name, Networks: []api.Network{}}
	for _, n := range s.Networks {
		site.Networks = append(site.Networks, api.Network{Name: n.Name, Subnet: n.Subnet.String()})
	}
	return site
}

func toSweep(s store.Sweep) api.Sweep {
	out := api.Sweep{
		ID: s.ID, Site: s.SiteID, Vantage: s.Vantage, Ranges: s.Ranges, Exclusions: s.Exclusions, Pace: s.Pace,
		State: string(s.State), Began: s.Began, Addresses: s.Addresses, Answered: s.Answered, Sent: s.Sent,
		Warnings: texts(s.Warnings), Failure: s.Failure,
		Appeared: s.Appeared, Vanished: s.Vanished, Moved: s.Moved, Changed: s.Changed,
	}
	out.Ended = known(s.Ended)
	return out
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
		Addr: s.Addr.String(), MAC: s.MAC.String(), Vendor: identity.Of(identify.Vendor), Kind: identity.Of(identify.Kind),
		Name: identity.Of(identify.Name), Ports: toPorts(s.Items), Whole: whole,
	}
}

func toFact(item evidence.Item) api.Fact {
	return api.Fact{
		Source: string(item.Source), Key: item.Key, Port: item.Port.String(), Value: item.Value, At: item.At,
		RTT: float64(item.RTT.Microseconds()) / 1000,
	}
}

// toPorts groups what was said by the port where it was said, in order of the ports.
func toPorts(items []evidence.Item) []api.Port {
	byPort := map[evidence.Port]*api.Port{}
	var order []evidence.Port
	for _, item := range items {
		if item.Key == evidence.KeyTCPOpen && byPort[item.Port] == nil {
			byPort[item.Port] = &api.Port{Port: item.Port.String(), Service: registry.ServiceName(item.Port), Words: []api.Fact{}}
			order = append(order, item.Port)
		}
	}
	for _, item := range items {
		if p := byPort[item.Port]; p != nil && item.Key != evidence.KeyTCPOpen {
			p.Words = append(p.Words, toFact(item))
		}
	}
	slices.SortFunc(order, func(a, b evidence.Port) int { return cmp.Compare(a.Number, b.Number) })
	ports := make([]api.Port, len(order))
	for i, p := range order {
		ports[i] = *byPort[p]
	}
	return ports
}

func addrTexts(addrs []netip.Addr) []string {
	out := make([]string, len(addrs))
	for i, a := range addrs {
		out[i] = a.String()
	}
	return out
}

func toDeviceLine(l store.DeviceLine) api.DeviceLine {
	return api.DeviceLine{
		ID: l.ID, Name: l.Name, Addrs: addrTexts(l.Addrs), MAC: l.MAC.String(), Kind: l.Kind, Vendor: l.Vendor, Model: l.Model, OS: l.OS,
		Standing: string(l.Standing), Presence: string(l.Presence), Contested: l.Contested,
		FirstSeen: known(l.FirstSeen), LastSeen: known(l.LastSeen),
	}
}

func toDevice(site uint64, d ledger.Device, overlay *registry.Table) api.Device {
	out := api.Device{
		DeviceLine: toDeviceLine(store.LineOf(d)),
		Site:       site,
		MACs:       []api.MAC{},
		Shared:     addrTexts(d.Contested),
		Claims:     []api.Claim{},
		Ports:      toPorts(d.Items),
		Evidence:   []api.Fact{},
		LastSweep:  d.LastSweep,
		MatchedBy:  d.MatchedBy,
		Reasons:    texts(d.Reasons),
	}
	for _, m := range d.MACs {
		vendor := registry.Find(m, overlay)
		out.MACs = append(out.MACs, api.MAC{MAC: m.String(), Vendor: identify.VendorName(vendor.Organisation), Private: vendor.Private})
	}
	for _, c := range d.Identity {
		out.Claims = append(out.Claims, toClaim(c))
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

func toClaim(c identify.Claim) api.Claim {
	claim := api.Claim{Attribute: string(c.Attribute), Value: c.Value, Strength: c.Strength, Candidates: []api.Candidate{}}
	for _, candidate := range c.Others {
		reasons := make([]api.Reason, len(candidate.Reasons))
		for i, r := range candidate.Reasons {
			reasons[i] = api.Reason{Rule: r.Rule, Because: r.Because, Strength: r.Strength, Fact: toFact(r.Item)}
		}
		claim.Candidates = append(claim.Candidates, api.Candidate{Value: candidate.Value, Strength: candidate.Strength, Reasons: reasons})
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
