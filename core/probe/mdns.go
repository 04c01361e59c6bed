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

// Keys of the facts.
const (
	keyMDNSModel = "mdns.model"
	keyMDNSAddr  = "mdns.addr"
)

var _ = register(Protocol{
	Name: "mdns", Source: evidence.SourceMDNS, Cost: Middling,
	Port: evidence.UDP(mdnsPort), Ask: askMDNS,
	Groups: []Group{{At: mdnsGroups[0], Questions: browseQuestions, Follow: typeQuestions}, {At: mdnsGroups[1], Questions: browseQuestions, Follow: typeQuestions}},
	Hear:   hearMDNS,
	Facts: []evidence.Fact{
		{Key: evidence.KeyMDNSHost, Says: "its name on the segment", Standard: "RFC 6762, 3", Example: "acorn.local", By: evidence.TheHost},
		{Key: evidence.KeyMDNSType, Says: "a type of service that it offers; at most 32", Standard: "RFC 6763, 9", Example: "_ipp._tcp"},
		{Key: evidence.KeyMDNSInstance, Says: "a service by its name, with type and port; at most 32", Standard: "RFC 6763, 4", Example: "Palm house._ipp._tcp:631", Names: 9, Describes: true, By: evidence.TheKeeper},
		{Key: evidence.KeyMDNSText, Says: "a pair of a service's record, behind its type; at most 24 a service", Standard: "RFC 6763, 6", Example: "_ipp._tcp ty=Inkwell 220", Names: 8},
		{Key: keyMDNSModel, Says: "model of the record _device-info", Standard: "RFC 6763", Example: "Macmini9,1", Names: 8, Describes: true},
		{Key: keyMDNSAddr, Says: "an address that it gives its name", Standard: "RFC 6762", Example: "10.40.1.20"},
	},
})

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

// mdnsGroups are where multicast DNS is spoken (RFC 6762, 3).
var mdnsGroups = []netip.AddrPort{netip.MustParseAddrPort("224.0.0.251:5353"), netip.MustParseAddrPort("[ff02::fb]:5353")}

// askMDNS asks a device directly for its services, what they say of themselves, and its name (RFC 6762, 5.5 and 6.7; RFC 6763).
func askMDNS(ctx context.Context, q Query) ([]evidence.Item, bool) {
	f, to := q.byDatagram(mdnsPort)
	b := newBrowse()
	first := []dns.Question{mdnsQuestion(browseAll, dns.TypePTR)}
	if reverse, err := dns.ReverseAddr(q.Addr.WithZone("").String()); err == nil {
		first = append(first, mdnsQuestion(reverse, dns.TypePTR))
	}
	if err := b.ask(ctx, q.Dialer, to, q.Wait, first); err != nil {
		return nil, false
	}
	b.askTypes(ctx, q.Dialer, to, q.Wait)
	b.askInstances(ctx, q.Dialer, to, q.Wait)
	b.tell(f)
	return f.items, true
}

// browseQuestions is what all responders of a segment are asked at once: their services, to be answered to us alone where they
// will (RFC 6762, 5.4).
func browseQuestions() ([][]byte, error) {
	question, err := mdnsQuery(0, []dns.Question{mdnsQuestion(browseAll, dns.TypePTR)})
	return [][]byte{question}, err
}

// maxAskedTypes bounds the types of service that all of a segment is asked for.
const maxAskedTypes = 64

// typeQuestions ask all of the segment for the instances of each type that was named: some responders answer a question of one
// alone with nothing.
func typeQuestions(heard [][]evidence.Item) ([][]byte, error) {
	types := map[string]bool{}
	for _, items := range heard {
		for _, kind := range evidence.Values(items, evidence.KeyMDNSType) {
			if len(types) < maxAskedTypes {
				types[kind] = true
			}
		}
	}
	var questions []dns.Question
	for _, kind := range slices.Sorted(maps.Keys(types)) {
		questions = append(questions, mdnsQuestion(kind+".local.", dns.TypePTR))
	}
	var messages [][]byte
	for batch := range slices.Chunk(questions, 8) {
		message, err := mdnsQuery(0, batch)
		if err != nil {
			return nil, err
		}
		messages = append(messages, message)
	}
	return messages, nil
}

// hearMDNS reads what a responder of the segment told, asked or not; it speaks from a port of its own (RFC 6762, 6). ok is false where
// it is no response.
func hearMDNS(d Datagram) (items []evidence.Item, ok bool) {
	if d.From.Port() != mdnsPort {
		return nil, false
	}
	b := newBrowse()
	if !b.take(d.Message, 0) {
		return nil, false
	}
	b.dropOthers(d.From.Addr())
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
	hosts     map[string][]netip.Addr // with the addresses that they were given
}

// instance is one service of a device.
type instance struct {
	port  uint16
	host  string
	texts []string
}

func newBrowse() *browse {
	return &browse{types: map[string]bool{}, instances: map[string]*instance{}, hosts: map[string][]netip.Addr{}}
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
			i.port, i.host = r.Port, r.Target
			b.takeHost(r.Target)
		}
	case *dns.TXT:
		if i := b.instance(owner); i != nil {
			i.texts = slices.Clip(append([]string{}, r.Txt[:min(len(r.Txt), maxTexts)]...))
		}
	case *dns.A:
		if a, ok := netip.AddrFromSlice(r.A.To4()); ok {
			b.takeAddr(owner, a)
		}
	case *dns.AAAA:
		if a, ok := netip.AddrFromSlice(r.AAAA); ok {
			b.takeAddr(owner, a)
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

// takeHost keeps the name of a host, and reports whether it is kept.
func (b *browse) takeHost(name string) bool {
	if _, known := b.hosts[name]; known {
		return true
	}
	if len(b.hosts) >= maxNames || !strings.HasSuffix(strings.ToLower(name), ".local.") {
		return false
	}
	b.hosts[name] = nil
	return true
}

func (b *browse) takeAddr(host string, a netip.Addr) {
	if b.takeHost(host) && len(b.hosts[host]) < maxNames && !slices.Contains(b.hosts[host], a) {
		b.hosts[host] = append(b.hosts[host], a)
	}
}

// dropOthers takes out what was passed on for others, as reflectors do: hosts that are given addresses of the sender's family and not
// the sender's own, and their services.
func (b *browse) dropOthers(sender netip.Addr) {
	sender = sender.WithZone("")
	foreign := func(host string) bool {
		like := false
		for _, a := range b.hosts[host] {
			if a == sender {
				return false
			}
			like = like || a.Is4() == sender.Is4()
		}
		return like
	}
	others := false
	for host := range b.hosts {
		others = others || foreign(host)
	}
	if !others {
		return
	}
	maps.DeleteFunc(b.instances, func(_ string, i *instance) bool { return i.host == "" || foreign(i.host) })
	maps.DeleteFunc(b.hosts, func(host string, _ []netip.Addr) bool { return foreign(host) })
	clear(b.types) // which of them are the sender's is not told
	for name := range b.instances {
		_, kind, _ := cutLabel(name)
		b.types[strings.ToLower(kind)] = true
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
	for _, a := range b.addrs() {
		f.add(evidence.SourceMDNS, keyMDNSAddr, []byte(a.String()))
	}
}

// addrs gives the addresses of all hosts, in ascending order.
func (b *browse) addrs() []netip.Addr {
	var all []netip.Addr
	for _, addrs := range b.hosts {
		all = append(all, addrs...)
	}
	slices.SortFunc(all, netip.Addr.Compare)
	all = slices.Compact(all)
	return all[:min(len(all), maxNames)]
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
			f.add(evidence.SourceMDNS, keyMDNSModel, []byte(value))
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
