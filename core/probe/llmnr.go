package probe

import (
	"context"
	"net/netip"
	"strings"
	"time"

	"github.com/miekg/dns"

	"airdrift/core/evidence"
)

// LLMNR asks a device for the name of its address (RFC 4795, 2.4: by unicast where the address is known).
func LLMNR(ctx context.Context, d Dialer, addr netip.Addr, wait time.Duration) ([]evidence.Item, bool) {
	f, to := byDatagram(d, addr, 5355)
	reverse, err := dns.ReverseAddr(addr.WithZone("").String())
	if err != nil {
		return nil, false
	}
	question := new(dns.Msg).SetQuestion(reverse, dns.TypePTR)
	question.RecursionDesired = false
	query, err := question.Pack()
	if err != nil {
		return nil, false
	}
	err = exchange(ctx, d, to, query, wait, func(answer []byte) verdict { return readLLMNR(answer, question.Id, reverse, f) })
	return f.items, err == nil
}

func readLLMNR(answer []byte, id uint16, reverse string, f *found) verdict {
	var message dns.Msg
	if message.Unpack(answer) != nil || !message.Response || message.Id != id {
		return ignore
	}
	for _, record := range message.Answer[:min(len(message.Answer), maxPointers)] {
		if ptr, ok := record.(*dns.PTR); ok && strings.EqualFold(ptr.Hdr.Name, reverse) {
			f.add(evidence.SourceLLMNR, evidence.KeyLLMNR, []byte(plainName(ptr.Ptr)))
		}
	}
	return enough
}
