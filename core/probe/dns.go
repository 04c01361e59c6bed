package probe

import (
	"context"
	"net/netip"
	"strings"
	"time"

	"github.com/miekg/dns"

	"airdrift/core/evidence"
)

// ReverseName asks a name server under which names it knows an address (RFC 1035, 3.5; RFC 3596, 2.5). answered is
// false where nothing that fits the question came back in time.
func ReverseName(ctx context.Context, d Dialer, server netip.AddrPort, a netip.Addr, wait time.Duration) (items []evidence.Item, answered bool) {
	ctx, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	conn, err := d.DialContext(ctx, "udp", server)
	if err != nil {
		return nil, false
	}
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(wait))
	name, err := dns.ReverseAddr(a.String())
	if err != nil {
		return nil, false
	}
	question := new(dns.Msg).SetQuestion(name, dns.TypePTR)
	start := time.Now()
	channel := &dns.Conn{Conn: conn}
	if err := channel.WriteMsg(question); err != nil {
		return nil, false
	}
	answer, err := channel.ReadMsg()
	if err != nil || answer.Id != question.Id || !answer.Response {
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
