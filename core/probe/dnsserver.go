package probe

import (
	"context"
	"net"
	"net/netip"
	"strings"
	"time"

	"github.com/miekg/dns"

	"airdrift/core/evidence"
)

const (
	keyDNSVersion = "dns.version"
	keyDNSServer  = "dns.server"
)

// What a name server is, as most tell whoever asks.
var _ = register(Protocol{
	Name: "dns-server", Source: evidence.SourceDNS, Cost: Light,
	Ports: []uint16{NamePort}, Telling: []uint16{NamePort}, Talk: talkDNS,
	Facts: []evidence.Fact{
		{Key: keyDNSVersion, Says: "the program that it is, by its own word", Standard: "RFC 4892, 2 (version.bind, version.server)", Example: "dnsmasq-2.90", Names: 6},
		{Key: keyDNSServer, Says: "the name that it goes by among others like it", Standard: "RFC 4892, 3 (id.server, hostname.bind)", Example: "acorn"},
	},
})

// serverQuestions are asked in this order, by the name of each; further ones where the first for a fact was not answered.
var serverQuestions = []struct{ name, key string }{
	{"version.bind.", keyDNSVersion}, {"version.server.", keyDNSVersion}, {"hostname.bind.", keyDNSServer}, {"id.server.", keyDNSServer},
}

// talkDNS asks a name server by connection what it is (RFC 7766; RFC 4892).
func talkDNS(_ context.Context, conn net.Conn, _ netip.AddrPort, f *found) {
	exchange := dns.Conn{Conn: conn}
	for _, q := range serverQuestions {
		if evidence.First(f.items, q.key) != "" {
			continue
		}
		_ = conn.SetDeadline(time.Now().Add(greetingWait))
		question := new(dns.Msg).SetQuestion(q.name, dns.TypeTXT)
		question.Question[0].Qclass, question.RecursionDesired = dns.ClassCHAOS, false
		if exchange.WriteMsg(question) != nil {
			return
		}
		answer, err := exchange.ReadMsg()
		if err != nil || answer.Id != question.Id || !answer.Response {
			return
		}
		readServer(answer, q.key, f)
	}
}

// readServer takes the texts of an answer.
func readServer(answer *dns.Msg, key string, f *found) {
	for _, record := range answer.Answer[:min(len(answer.Answer), maxPointers)] {
		if txt, ok := record.(*dns.TXT); ok {
			f.addOnce(evidence.SourceDNS, key, []byte(unescape(strings.Join(txt.Txt, " "))))
		}
	}
}
