package probe

import (
	"context"
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/miekg/dns"

	"airdrift/core/evidence"
)

// nameServer answers each question with what make gives, raw.
type nameServer struct {
	make func(question []byte) []byte
}

func (s nameServer) Dial(context.Context, string, netip.AddrPort, time.Duration) (net.Conn, error) {
	ours, theirs := net.Pipe()
	go func() {
		buf := make([]byte, 4096)
		n, err := theirs.Read(buf)
		if answer := s.make(buf[:n]); err == nil && answer != nil {
			_, _ = theirs.Write(answer)
		}
	}()
	return ours, nil // a pipe keeps the borders of messages, as a datagram socket does
}

func answerWith(names ...string) func([]byte) []byte {
	return func(raw []byte) []byte {
		question := new(dns.Msg)
		if question.Unpack(raw) != nil {
			return nil
		}
		reply := new(dns.Msg).SetReply(question)
		for _, name := range names {
			reply.Answer = append(reply.Answer, &dns.PTR{Hdr: dns.RR_Header{Name: question.Question[0].Name, Rrtype: dns.TypePTR, Class: dns.ClassINET}, Ptr: dns.Fqdn(name)})
		}
		packed, _ := reply.Pack()
		return packed
	}
}

func TestReverseName(t *testing.T) {
	ask := func(make func([]byte) []byte) ([]evidence.Item, bool) {
		return ReverseName(t.Context(), nameServer{make}, netip.MustParseAddrPort("10.40.1.10:53"), netip.MustParseAddr("10.40.1.20"), 200*time.Millisecond)
	}
	items, answered := ask(answerWith("office-printer.fernhollow.example", "other.example"))
	if !answered || len(items) != 2 || items[0].Value != "office-printer.fernhollow.example" || items[0].Key != evidence.KeyPTR {
		t.Errorf("got %+v, %v", items, answered)
	}
	if items, answered := ask(answerWith()); !answered || len(items) != 0 {
		t.Errorf("an address without a name gave %+v, %v", items, answered)
	}
	for name, liar := range map[string]func([]byte) []byte{
		"another question's answer": func(raw []byte) []byte { a := answerWith("x.example")(raw); a[0] ^= 1; return a },
		"a question":                func(raw []byte) []byte { return raw },
		"noise":                     func([]byte) []byte { return []byte{1, 2, 3} },
		"silence":                   func([]byte) []byte { return nil },
	} {
		if items, answered := ask(liar); answered || len(items) > 0 {
			t.Errorf("%s gave %+v, %v", name, items, answered)
		}
	}
}

func FuzzPointers(f *testing.F) {
	question := new(dns.Msg).SetQuestion("20.1.40.10.in-addr.arpa.", dns.TypePTR)
	raw, _ := question.Pack()
	f.Add(answerWith("a.example", "b.example")(raw))
	f.Add(raw)
	f.Fuzz(func(t *testing.T, raw []byte) {
		answer := new(dns.Msg)
		if answer.Unpack(raw) != nil {
			return
		}
		items := pointers(answer, "20.1.40.10.in-addr.arpa.", 0)
		if len(items) > maxPointers {
			t.Errorf("%d names were taken", len(items))
		}
		for _, item := range items {
			if item.Value == "" || item.Value != evidence.Clean([]byte(item.Value)) {
				t.Errorf("%q is not clean", item.Value)
			}
		}
	})
}
