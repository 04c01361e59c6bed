package simsite

import (
	"net/netip"

	"github.com/miekg/dns"
)

// speaksDNS knows the whole building, and speaksLLDP has no port: it announces the device to its neighbours.
const (
	speaksDNS  = "dns"
	speaksLLDP = "lldp"
)

// portless are the ways to speak that have no port.
var portless = []string{speaksLLDP, speaksCDP, speaksPROFINET}

// zone answers questions for the names of a building's devices (RFC 1035).
type zone struct {
	pointers map[string]string // reverse name to host name
}

func newZone(s *Scenario) zone {
	z := zone{pointers: map[string]string{}}
	for _, d := range s.Devices {
		for _, leg := range d.Legs {
			for _, a := range []netip.Addr{leg.Address, leg.Address6} {
				if reverse, err := dns.ReverseAddr(a.String()); err == nil && d.Hostname != "" {
					z.pointers[reverse] = dns.Fqdn(d.Hostname)
				}
			}
		}
	}
	return z
}

// ServeDNS answers one question.
func (z zone) ServeDNS(w dns.ResponseWriter, question *dns.Msg) {
	answer := new(dns.Msg).SetReply(question)
	answer.Authoritative = true
	answer.Rcode = dns.RcodeNameError
	for _, q := range question.Question {
		if host := z.pointers[dns.CanonicalName(q.Name)]; host != "" && q.Qtype == dns.TypePTR {
			answer.Rcode = dns.RcodeSuccess
			answer.Answer = append(answer.Answer, &dns.PTR{
				Hdr: dns.RR_Header{Name: q.Name, Rrtype: dns.TypePTR, Class: dns.ClassINET, Ttl: 3600}, Ptr: host,
			})
		}
	}
	_ = w.WriteMsg(answer) // a client that has gone away is no loss
}
