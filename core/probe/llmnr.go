package probe

import (
	"context"
	"net/netip"
	"strings"
	"time"

	"github.com/miekg/dns"

	"airdrift/core/evidence"
)

const llmnrPort = 5355

// LLMNR asks a device for the name of its address, over a connection: responders discard what is asked of them alone by datagram
// (RFC 4795, 2.4).
func LLMNR(ctx context.Context, d Dialer, addr netip.Addr, wait time.Duration) ([]evidence.Item, bool) {
	f := &found{port: evidence.TCP(llmnrPort)}
	reverse, err := dns.ReverseAddr(addr.WithZone("").String())
	if err != nil {
		return nil, false
	}
	conn, _, outcome, err := Connect(ctx, d, netip.AddrPortFrom(addr, llmnrPort), wait)
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
			f.add(evidence.SourceLLMNR, evidence.KeyLLMNR, []byte(plainName(ptr.Ptr)))
		}
	}
	return f.items, true
}
