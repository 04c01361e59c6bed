package probe

import (
	"context"
	"net/netip"
	"strings"
	"time"

	"github.com/miekg/dns"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keyLLMNR = "llmnr.name"
)

var _ = register(Protocol{
	Name: "llmnr", Source: evidence.SourceLLMNR, Cost: Light,
	Port: evidence.TCP(llmnrPort), Ask: askLLMNR, OneHop: true,
	Facts: []evidence.Fact{
		{Key: keyLLMNR, Says: "the name it answers to", Standard: "RFC 4795, 2.4", Example: "desk", By: evidence.TheHost},
	},
})

const llmnrPort = 5355

// askLLMNR asks a device for the name of its address, over a connection: responders discard what is asked of them alone by datagram
// (RFC 4795, 2.4).
func askLLMNR(ctx context.Context, q Query) ([]evidence.Item, bool) {
	f := &found{port: evidence.TCP(llmnrPort)}
	reverse, err := dns.ReverseAddr(q.Addr.WithZone("").String())
	if err != nil {
		return nil, false
	}
	conn, outcome, err := Connect(ctx, q.Dialer, netip.AddrPortFrom(q.Addr, llmnrPort), q.Wait)
	if err != nil || outcome != Open {
		return nil, false
	}
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(greetingWait))
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	question := new(dns.Msg).SetQuestion(reverse, dns.TypePTR)
	question.RecursionDesired = false
	exchange := dns.Conn{Conn: conn}
	if err := exchange.WriteMsg(question); err != nil {
		return nil, false
	}
	answer, err := exchange.ReadMsg()
	if err != nil || !answer.Response || answer.Id != question.Id {
		return nil, false
	}
	for _, record := range answer.Answer[:min(len(answer.Answer), maxPointers)] {
		if ptr, ok := record.(*dns.PTR); ok && strings.EqualFold(ptr.Hdr.Name, reverse) {
			f.add(evidence.SourceLLMNR, keyLLMNR, []byte(plainName(ptr.Ptr)))
		}
	}
	return f.items, true
}
