package probe

import (
	"context"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"

	"airdrift/core/evidence"
)

const (
	mdnsPort = 5353
	// browseAll asks for all types of service (RFC 6763, 9).
	browseAll = "_services._dns-sd._udp.local."
	// deviceInfo carries what the device is, beside its services.
	deviceInfo = "_device-info._tcp.local."
	// maxTypes, maxInstances and maxTexts bound what is taken of one device.
	maxTypes     = 32
	maxInstances = 32
	maxTexts     = 24
)

// MDNSGroups are where multicast DNS is spoken (RFC 6762, 3).
var MDNSGroups = []netip.AddrPort{netip.MustParseAddrPort("224.0.0.251:5353"), netip.MustParseAddrPort("[ff02::fb]:5353")}

// MDNS asks a device directly for its services, what they say of themselves, and its name (RFC 6762, 5.5 and 6.7; RFC 6763).
func MDNS(ctx context.Context, d Dialer, addr netip.Addr, wait time.Duration) ([]evidence.Item, bool) {
	f, to := byDatagram(d, addr, mdnsPort)
	b := newBrowse()
	first := []dns.Question{mdnsQuestion(browseAll, dns.TypePTR)}
	if reverse, err := dns.ReverseAddr(addr.WithZone("").String()); err == nil {
		first = append(first, mdnsQuestion(reverse, dns.TypePTR))
	}
	if err := b.ask(ctx, d, to, wait, first); err != nil {
		return nil, false
	}
	b.askTypes(ctx, d, to, wait)
	b.askInstances(ctx, d, to, wait)
	b.tell(f)
	return f.items, true
}

// BrowseQuestion is what all responders of a segment are asked at once: their services, to be answered to us alone where they
// will (RFC 6762, 5.4).
func BrowseQuestion() ([]byte, error) {
	return mdnsQuery(0, []dns.Question{mdnsQuestion(browseAll, dns.TypePTR)})
}

// HeardMDNS reads what a responder of the segment told, asked or not. ok is false where it is no response.
func HeardMDNS(message []byte) (items []evidence.Item, ok bool) {
	b := newBrowse()
	if !b.take(message, 0) {
		return nil, false
	}
	f := &found{port: evidence.UDP(mdnsPort)}
	b.tell(f)
	return f.items, len(f.items) > 0
}

// mdnsQuestion asks for an answer to us alone (the top bit of the class, RFC 6762, 5.4).
func mdnsQuestion(name string, kind uint16) dns.Question {
	return dns.Question{Name: name, Qtype: kind, Qclass: dns.ClassINET | 1<<15}
}

func mdnsQuery(id uint16, questions []dns.Question) ([]byte, error) {
	return (&dns.Msg{MsgHdr: dns.MsgHdr{Id: id}, Question: questions}).Pack()
}

// browse is what one device has told of its services so far.
type browse struct {
	types     map[string]bool
	instances map[string]*instance
	hosts     map[string]bool
	addrs     map[netip.Addr]bool
}

// instance is one service of a device.
type instance struct {
	port  uint16
	texts []string
}

func newBrowse() *browse {
	return &browse{types: map[string]bool{}, instances: map[string]*instance{}, hosts: map[string]bool{}, addrs: map[netip.Addr]bool{}}
}

func (b *browse) ask(ctx context.Context, d Dialer, to netip.AddrPort, wait time.Duration, questions []dns.Question) error {
	id := dns.Id()
	query, err := mdnsQuery(id, questions)
	if err != nil {
		return err
	}
	return exchange(ctx, d, to, query, wait, func(answer []byte) verdict {
		if b.take(answer, id) {
			return more
		}
		return ignore
	})
}

// askTypes asks for the instances of all types that were named.
func (b *browse) askTypes(ctx context.Context, d Dialer, to netip.AddrPort, wait time.Duration) {
	questions := []dns.Question{}
	for _, kind := range slices.Sorted(maps.Keys(b.types)) {
		questions = append(questions, mdnsQuestion(kind, dns.TypePTR))
	}
	for batch := range slices.Chunk(questions, 8) {
		_ = b.ask(ctx, d, to, wait, batch) // what keeps silent tells nothing
	}
}

// askInstances asks for what instances have not told of themselves yet, and for what the device says it is.
func (b *browse) askInstances(ctx context.Context, d Dialer, to netip.AddrPort, wait time.Duration) {
	var questions []dns.Question
	described := map[string]bool{}
	for _, name := range slices.Sorted(maps.Keys(b.instances)) {
		if b.instances[name].texts == nil {
			questions = append(questions, mdnsQuestion(name, dns.TypeTXT), mdnsQuestion(name, dns.TypeSRV))
		}
		label, _, whole := cutLabel(name)
		if info := label + "." + deviceInfo; whole && b.instances[info] == nil && !described[info] && len(described) < 4 {
			described[info] = true
			questions = append(questions, mdnsQuestion(info, dns.TypeTXT))
		}
	}
	for batch := range slices.Chunk(questions, 8) {
		_ = b.ask(ctx, d, to, wait, batch) // what keeps silent tells nothing
	}
}

// take reads a response, to the question of that id or to none.
func (b *browse) take(message []byte, id uint16) bool {
	var answer dns.Msg
	if answer.Unpack(message) != nil || !answer.Response || answer.Id != id && answer.Id != 0 {
		return false
	}
	for _, record := range slices.Concat(answer.Answer, answer.Extra) {
		b.takeRecord(record)
	}
	return true
}

func (b *browse) takeRecord(record dns.RR) {
	owner := record.Header().Name
	switch r := record.(type) {
	case *dns.PTR:
		b.takePointer(owner, r.Ptr)
	case *dns.SRV:
		if i := b.instance(owner); i != nil {
			i.port = r.Port
			b.takeHost(r.Target)
		}
	case *dns.TXT:
		if i := b.instance(owner); i != nil {
			i.texts = slices.Clip(append([]string{}, r.Txt[:min(len(r.Txt), maxTexts)]...))
		}
	case *dns.A:
		if a, ok := netip.AddrFromSlice(r.A.To4()); ok {
			b.takeHost(owner)
			b.takeAddr(a)
		}
	case *dns.AAAA:
		if a, ok := netip.AddrFromSlice(r.AAAA); ok {
			b.takeHost(owner)
			b.takeAddr(a)
		}
	}
}

func (b *browse) takePointer(owner, target string) {
	switch {
	case strings.EqualFold(owner, browseAll):
		if len(b.types) < maxTypes && isServiceType(target) {
			b.types[strings.ToLower(target)] = true
		}
	case strings.HasSuffix(strings.ToLower(owner), ".arpa."):
		b.takeHost(target)
	case isServiceType(owner):
		b.instance(target)
	}
}

func (b *browse) takeHost(name string) {
	if len(b.hosts) < maxNames && strings.HasSuffix(strings.ToLower(name), ".local.") {
		b.hosts[name] = true
	}
}

func (b *browse) takeAddr(a netip.Addr) {
	if len(b.addrs) < maxNames {
		b.addrs[a] = true
	}
}

// instance gives the service instance of that name; nil where it is none, or there are too many.
func (b *browse) instance(name string) *instance {
	if i := b.instances[name]; i != nil {
		return i
	}
	_, kind, whole := cutLabel(name)
	if !whole || !isServiceType(kind) || len(b.instances) >= maxInstances {
		return nil
	}
	if len(b.types) < maxTypes {
		b.types[strings.ToLower(kind)] = true
	}
	b.instances[name] = &instance{}
	return b.instances[name]
}

// isServiceType knows names such as _ipp._tcp.local. (RFC 6763, 7).
func isServiceType(name string) bool {
	labels := dns.SplitDomainName(strings.ToLower(name))
	return len(labels) == 3 && strings.HasPrefix(labels[0], "_") && (labels[1] == "_tcp" || labels[1] == "_udp") && labels[2] == "local"
}

// cutLabel parts the first label of a name from the rest; dots within it are escaped.
func cutLabel(name string) (label, rest string, ok bool) {
	next, end := dns.NextLabel(name, 0)
	if end || next < 1 {
		return "", "", false
	}
	return name[:next-1], name[next:], true
}

// tell notes all that was learned.
func (b *browse) tell(f *found) {
	for _, host := range slices.Sorted(maps.Keys(b.hosts)) {
		f.add(evidence.SourceMDNS, evidence.KeyMDNSHost, []byte(plainName(host)))
	}
	for _, kind := range slices.Sorted(maps.Keys(b.types)) {
		f.add(evidence.SourceMDNS, evidence.KeyMDNSType, []byte(strings.TrimSuffix(kind, ".local.")))
	}
	for _, name := range slices.Sorted(maps.Keys(b.instances)) {
		b.tellInstance(f, name, b.instances[name])
	}
	for _, a := range slices.SortedFunc(maps.Keys(b.addrs), netip.Addr.Compare) {
		f.add(evidence.SourceMDNS, evidence.KeyMDNSAddr, []byte(a.String()))
	}
}

func (b *browse) tellInstance(f *found, name string, i *instance) {
	label, kind, _ := cutLabel(name)
	kind = strings.ToLower(strings.TrimSuffix(kind, ".local."))
	if kind+".local." != deviceInfo {
		f.add(evidence.SourceMDNS, evidence.KeyMDNSInstance, fmt.Appendf(nil, "%s.%s:%d", unescape(label), kind, i.port))
	}
	for _, pair := range i.texts {
		pair = unescape(pair)
		if key, value, ok := strings.Cut(pair, "="); ok && strings.EqualFold(key, "model") && kind+".local." == deviceInfo {
			f.add(evidence.SourceMDNS, evidence.KeyMDNSModel, []byte(value))
			continue
		}
		if pair != "" {
			f.add(evidence.SourceMDNS, evidence.KeyMDNSText, []byte(kind+" "+pair))
		}
	}
}

func plainName(name string) string { return unescape(strings.TrimSuffix(name, ".")) }

// unescape gives the bytes that the presentation form of a name or text stands for (RFC 1035, 5.1).
func unescape(text string) string {
	if !strings.Contains(text, `\`) {
		return text
	}
	var plain []byte
	for i := 0; i < len(text); i++ {
		if text[i] != '\\' || i+1 == len(text) {
			plain = append(plain, text[i])
			continue
		}
		i++
		if i+2 < len(text) && isDigit(text[i]) && isDigit(text[i+1]) && isDigit(text[i+2]) {
			plain = append(plain, (text[i]-'0')*100+(text[i+1]-'0')*10+text[i+2]-'0')
			i += 2
			continue
		}
		plain = append(plain, text[i])
	}
	return string(plain)
}

func isDigit(b byte) bool { return b >= '0' && b <= '9' }
