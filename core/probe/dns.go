package probe

import (
	"context"
	"net/netip"
	"strings"
	"time"

	"github.com/miekg/dns"

	"airdrift/core/evidence"
)

// The names that the site's own name servers know an address by.
var _ = register(Protocol{
	Name: "dns", Source: evidence.SourceDNS, Cost: Light,
	Port: evidence.UDP(NamePort), ByOthers: true, Ask: askNames,
	Facts: []evidence.Fact{
		{Key: evidence.KeyPTR, Says: "a name that the site's name server knows the address by", Standard: "RFC 1035, 3.5", Example: "acorn.fernhollow.example", By: evidence.TheHost},
	},
})

// NamePort is where name servers are asked (RFC 1035, 4.2).
const NamePort = 53

// nameTries is how often a name server that keeps silent is asked.
const nameTries = 2

// askNames asks the site's name servers for the name of an address; the first that answers is believed.
func askNames(ctx context.Context, q Query) (items []evidence.Item, answered bool) {
	if q.Addr.IsLinkLocalUnicast() {
		return nil, false
	}
	for _, server := range q.Servers {
		for range nameTries {
			if items, answered = ReverseName(ctx, q.Dialer, server, q.Addr, q.Wait); answered || ctx.Err() != nil {
				return items, answered
			}
		}
	}
	return nil, false
}

// ReverseName asks a name server under which names it knows an address (RFC 1035, 3.5; RFC 3596, 2.5). answered is
// false where nothing that fits the question came back in time.
func ReverseName(ctx context.Context, d Dialer, server netip.AddrPort, a netip.Addr, wait time.Duration) (items []evidence.Item, answered bool) {
	conn, err := d.Dial(ctx, "udp", server, wait)
	if err != nil {
		return nil, false
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	_ = conn.SetDeadline(time.Now().Add(wait))
	name, err := dns.ReverseAddr(a.String())
	if err != nil {
		return nil, false
	}
	question := new(dns.Msg).SetQuestion(name, dns.TypePTR)
	raw, err := question.Pack()
	if err != nil {
		return nil, false
	}
	start := time.Now()
	if _, err := conn.Write(raw); err != nil {
		return nil, false
	}
	buf := make([]byte, maxDatagram)
	n, err := conn.Read(buf)
	if err != nil {
		return nil, false
	}
	answer := new(dns.Msg)
	if answer.Unpack(buf[:n]) != nil || answer.Id != question.Id || !answer.Response {
		return nil, false
	}
	return pointers(answer, name, time.Since(start)), true
}

// maxPointers is how many names of one address are kept.
const maxPointers = 8

// pointers gives the names that an answer tells of the name that was asked.
func pointers(answer *dns.Msg, name string, rtt time.Duration) []evidence.Item {
	var items []evidence.Item
	for _, record := range answer.Answer {
		ptr, ok := record.(*dns.PTR)
		if !ok || !strings.EqualFold(ptr.Hdr.Name, name) || len(items) == maxPointers {
			continue
		}
		if value := evidence.Clean([]byte(strings.TrimSuffix(ptr.Ptr, "."))); value != "" {
			items = append(items, evidence.Item{Source: evidence.SourceDNS, Key: evidence.KeyPTR, Value: value, At: time.Now().UTC(), RTT: rtt})
		}
	}
	return items
}
