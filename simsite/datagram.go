package simsite

import (
	"encoding/binary"
	"encoding/xml"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"github.com/miekg/dns"
	"gvisor.dev/gvisor/pkg/tcpip"
)

// booth is where a service stands: on which device, with which secret.
type booth struct {
	device  Device
	service Service
	secret  [32]byte

	elsewhere net.PacketConn // another port that answers come from; nil where it is the service's own
}

// addr gives the device's first address, of IPv4 where it has one.
func (b booth) addr() netip.Addr {
	for _, leg := range b.device.Legs {
		if leg.Address.IsValid() {
			return leg.Address
		}
	}
	return b.device.Legs[0].Address6
}

// datagramSpeaker answers datagrams until its socket closes.
type datagramSpeaker func(conn net.PacketConn, b booth)

// datagramSpeakers are the protocols by datagram that a scenario may name, with the group that each hears besides.
var datagramSpeakers = map[string]struct {
	serve datagramSpeaker
	group netip.Addr
}{
	"snmp":    {serveSNMP, netip.Addr{}},
	"ntp":     {serveNTP, netip.Addr{}},
	"netbios": {serveNetBIOS, netip.Addr{}},
	"mdns":    {serveMDNS, netip.MustParseAddr("224.0.0.251")},
	"ssdp":    {serveSSDP, netip.MustParseAddr("239.255.255.250")},
	"wsd":     {serveWSD, netip.MustParseAddr("239.255.255.250")},
	"sip":     {serveSIP, netip.Addr{}},
	"noise":   {serveNoise, netip.Addr{}},

	"bacnet":      {serveBACnet, netip.Addr{}},
	"bacnet-ipv6": {serveBACnet6, netip.MustParseAddr("ff02::bac0")},
	"knx":         {serveKNX, netip.MustParseAddr("224.0.23.12")},
	"ethernet-ip": {serveCIP, netip.Addr{}},
	"coap":        {serveCoAP, netip.MustParseAddr("224.0.1.187")},
	"art-net":     {serveArtNet, netip.Addr{}},
	"ipmi":        {serveIPMI, netip.Addr{}},
}

// listenDatagrams opens the socket of a service by datagram and joins its group.
func listenDatagrams(h *host, port uint16, group netip.Addr, protocol tcpip.NetworkProtocolNumber) (net.PacketConn, error) {
	conn, err := h.bindUDP(tcpip.FullAddress{Port: port}, protocol)
	if err != nil {
		return nil, err
	}
	for i := range h.nics {
		if group.IsValid() {
			if err := h.stack.JoinGroup(protocolOf(group), tcpip.NICID(i+1), tcpip.AddrFromSlice(group.AsSlice())); err != nil {
				conn.Close()
				return nil, fmt.Errorf("join %s: %s", group, err)
			}
		}
	}
	return conn, nil
}

// eachDatagram answers each datagram to who sent it.
func eachDatagram(conn net.PacketConn, answer func(question []byte) [][]byte) {
	answerFrom(conn, conn, answer)
}

// answerFrom answers what comes in at one socket from another.
func answerFrom(answers, conn net.PacketConn, answer func(question []byte) [][]byte) {
	buf := make([]byte, 1<<16)
	for {
		n, from, err := conn.ReadFrom(buf)
		if err != nil {
			return
		}
		for _, a := range answer(buf[:n]) {
			_, _ = answers.WriteTo(a, from) // who has gone away is no loss
		}
	}
}

// serveNTP gives the time of nowhere, from a clock of the stratum told.
func serveNTP(conn net.PacketConn, b booth) {
	stratum, _ := strconv.Atoi(b.service.Tells["stratum"]) // 0 says that it is not set
	eachDatagram(conn, func(question []byte) [][]byte {
		if len(question) < 48 {
			return nil
		}
		answer := make([]byte, 48)
		answer[0], answer[1] = question[0]&0x38|4, byte(stratum)
		copy(answer[12:16], b.service.Tells["reference"])
		copy(answer[24:32], question[40:48])
		return [][]byte{answer}
	})
}

// serveNetBIOS answers node status requests (RFC 1002, 4.2.18).
func serveNetBIOS(conn net.PacketConn, b booth) {
	eachDatagram(conn, func(question []byte) [][]byte {
		if len(question) < 50 || question[46] != 0 || question[47] != 0x21 {
			return nil
		}
		answer := append(slices.Clone(question[:2]), 0x84, 0, 0, 0, 0, 1, 0, 0, 0, 0)
		answer = append(answer, question[12:46]...)
		answer = append(answer, 0, 0x21, 0, 1, 0, 0, 0, 0)
		names := nodeName(b.service.Tells["name"], 0, 0x04)
		names = append(names, nodeName(b.service.Tells["name"], 0x20, 0x04)...)
		names = append(names, nodeName(b.service.Tells["group"], 0, 0x84)...)
		data := append([]byte{3}, names...)
		data = append(data, b.device.Legs[0].MAC[:]...)
		data = append(data, make([]byte, 40)...)
		answer = binary.BigEndian.AppendUint16(answer, uint16(len(data)))
		return [][]byte{append(answer, data...)}
	})
}

func nodeName(name string, suffix, flags byte) []byte {
	return append(fmt.Appendf(nil, "%-15.15s", strings.ToUpper(name)), suffix, flags, 0)
}

// serveLLMNR knows the device's name by the address at which it is asked, by connection (RFC 4795, 2.4: what is asked of one alone
// by datagram is not answered).
func serveLLMNR(conn net.Conn, s Service) {
	at, err := netip.ParseAddrPort(conn.LocalAddr().String())
	if err != nil {
		return
	}
	reverse, _ := dns.ReverseAddr(at.Addr().Unmap().String()) // never fails: it is an address
	exchange := dns.Conn{Conn: conn}
	for {
		asked, err := exchange.ReadMsg()
		if err != nil || asked.Response || len(asked.Question) != 1 || !strings.EqualFold(asked.Question[0].Name, reverse) {
			return
		}
		answer := new(dns.Msg).SetReply(asked)
		answer.Answer = []dns.RR{&dns.PTR{Hdr: record(reverse, dns.TypePTR), Ptr: dns.Fqdn(s.Tells["name"])}}
		if exchange.WriteMsg(answer) != nil {
			return
		}
	}
}

func record(name string, kind uint16) dns.RR_Header {
	return dns.RR_Header{Name: name, Rrtype: kind, Class: dns.ClassINET, Ttl: 120}
}

func packed(answer *dns.Msg, records ...dns.RR) [][]byte {
	answer.Answer = append(answer.Answer, records...)
	answer.Authoritative = true
	if len(answer.Answer) == 0 {
		return nil
	}
	raw, err := answer.Pack()
	if err != nil {
		return nil
	}
	return [][]byte{raw}
}

// serveMDNS answers for the services told: "offers" lists types with their ports, "txt.TYPE" the texts of one, separated by
// semicolons; "instance" is what they are called, "host" the name, "model" what the device is.
func serveMDNS(conn net.PacketConn, b booth) {
	records := mdnsRecords(b)
	eachDatagram(conn, func(question []byte) [][]byte {
		var asked dns.Msg
		if asked.Unpack(question) != nil || asked.Response {
			return nil
		}
		answer := new(dns.Msg)
		answer.Id, answer.Response = asked.Id, true
		var found []dns.RR
		for _, q := range asked.Question {
			for _, r := range records {
				if strings.EqualFold(r.Header().Name, q.Name) && (r.Header().Rrtype == q.Qtype || q.Qtype == dns.TypeANY) {
					found = append(found, r)
				}
			}
		}
		return packed(answer, found...)
	})
}

func mdnsRecords(b booth) []dns.RR {
	tells := b.service.Tells
	host := tells["host"] + ".local."
	address := b.addr()
	all := []dns.RR{}
	if address.Is4() {
		all = append(all, &dns.A{Hdr: record(host, dns.TypeA), A: address.AsSlice()})
	}
	if reverse, err := dns.ReverseAddr(address.String()); err == nil {
		all = append(all, &dns.PTR{Hdr: record(reverse, dns.TypePTR), Ptr: host})
	}
	label := strings.NewReplacer(".", `\.`, " ", `\032`).Replace(tells["instance"])
	for offer := range strings.FieldsSeq(tells["offers"]) {
		kind, port, _ := strings.Cut(offer, ":")
		number, _ := strconv.ParseUint(port, 10, 16) // 0 where there is none
		name := label + "." + kind + ".local."
		texts := strings.Split(tells["txt."+kind], ";")
		all = append(all,
			&dns.PTR{Hdr: record("_services._dns-sd._udp.local.", dns.TypePTR), Ptr: kind + ".local."},
			&dns.PTR{Hdr: record(kind+".local.", dns.TypePTR), Ptr: name},
			&dns.SRV{Hdr: record(name, dns.TypeSRV), Port: uint16(number), Target: host},
			&dns.TXT{Hdr: record(name, dns.TypeTXT), Txt: texts})
	}
	if tells["model"] != "" {
		all = append(all, &dns.TXT{Hdr: record(label+"._device-info._tcp.local.", dns.TypeTXT), Txt: []string{"model=" + tells["model"]}})
	}
	return asReceived(all)
}

// asReceived gives records with their names in the form that names have which came over the network.
func asReceived(records []dns.RR) []dns.RR {
	raw, err := (&dns.Msg{Answer: records}).Pack()
	var message dns.Msg
	if err != nil || message.Unpack(raw) != nil {
		return nil // a name in the scenario is none
	}
	return message.Answer
}

// descriptionPort is where a device that is found by SSDP has its description.
const descriptionPort = 49200

// serveSSDP answers searches (UPnP Device Architecture 2.0, 1.3.3).
func serveSSDP(conn net.PacketConn, b booth) {
	tells := b.service.Tells
	eachSearch(conn, b, func(question []byte) [][]byte {
		if !strings.HasPrefix(string(question), "M-SEARCH ") {
			return nil
		}
		var answers [][]byte
		for _, target := range []string{"upnp:rootdevice", tells["type"]} {
			answers = append(answers, fmt.Appendf(nil, "HTTP/1.1 200 OK\r\nCACHE-CONTROL: max-age=1800\r\nEXT:\r\nLOCATION: http://%s/description.xml\r\nSERVER: %s\r\nST: %s\r\nUSN: uuid:%x::%s\r\n\r\n",
				netip.AddrPortFrom(b.addr(), descriptionPort), tells["server"], target, b.secret[:16], target))
		}
		return answers
	})
}

// deviceDescription is the document that an answer to a search points to; a liar's is deeper than anybody reads.
func deviceDescription(b booth) string {
	tells := b.service.Tells
	if tells["trap"] == "deep" {
		return "<root>" + strings.Repeat("<device>", 5000) + strings.Repeat("</device>", 5000) + "</root>"
	}
	element := func(name, text string) string { return "<" + name + ">" + xmlText(text) + "</" + name + ">" }
	return `<?xml version="1.0"?><root xmlns="urn:schemas-upnp-org:device-1-0"><device>` + element("deviceType", tells["type"]) +
		element("friendlyName", tells["name"]) + element("manufacturer", tells["maker"]) + element("modelName", tells["model"]) +
		element("serialNumber", tells["serial"]) + element("UDN", fmt.Sprintf("uuid:%x", b.secret[:16])) + "</device></root>"
}

// metadataPort is where a device that is found by WS-Discovery says more of itself.
const metadataPort = 5357

// serveWSD answers probes for its types or for all (OASIS WS-Discovery 1.1, 5.3); one that "wants" types answers to those alone, as
// some programs do.
func serveWSD(conn net.PacketConn, b booth) {
	tells := b.service.Tells
	eachSearch(conn, b, func(question []byte) [][]byte {
		_, asked, _ := strings.Cut(string(question), "Probe>")
		_, types, _ := strings.Cut(asked, "Types")
		_, types, _ = strings.Cut(types, ">")
		types, _, _ = strings.Cut(types, "<")
		if asked == "" || types != "" && !slices.Contains(strings.Fields(tells["types"]), types) || types == "" && tells["wants"] == "types" {
			return nil
		}
		return [][]byte{fmt.Appendf(nil, `<?xml version="1.0"?><s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope" xmlns:a="http://schemas.xmlsoap.org/ws/2004/08/addressing" `+
			`xmlns:d="http://schemas.xmlsoap.org/ws/2005/04/discovery"><s:Header/><s:Body><d:ProbeMatches><d:ProbeMatch><a:EndpointReference><a:Address>urn:uuid:%x</a:Address></a:EndpointReference>`+
			`<d:Types>%s</d:Types><d:Scopes>%s</d:Scopes><d:XAddrs>http://%s/device_service</d:XAddrs></d:ProbeMatch></d:ProbeMatches></s:Body></s:Envelope>`,
			b.secret[:16], tells["types"], tells["scopes"], netip.AddrPortFrom(b.addr(), metadataPort))}
	})
}

// eachSearch answers each question of a search, from another port where the service "answers" from one.
func eachSearch(conn net.PacketConn, b booth, answer func(question []byte) [][]byte) {
	answers := b.elsewhere
	if answers == nil {
		answers = conn
	}
	answerFrom(answers, conn, answer)
}

// serveMetadata answers what is asked of a device that was found by WS-Discovery (OASIS DPWS 1.1, 5.1). A computer names itself and
// the program that answers; one that is "onvif: open" says by that profile what it is, to anybody.
func serveMetadata(l net.Listener, b booth) {
	tells := b.service.Tells
	section := func(dialect, body string) string {
		return `<x:MetadataSection Dialect="http://schemas.xmlsoap.org/ws/2006/02/devprof/` + dialect + `">` + body + `</x:MetadataSection>`
	}
	element := func(name, text string) string {
		if text == "" {
			return ""
		}
		return "<p:" + name + ">" + xmlText(text) + "</p:" + name + ">"
	}
	document := `<?xml version="1.0"?><s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope" xmlns:x="http://schemas.xmlsoap.org/ws/2004/09/mex" ` +
		`xmlns:p="http://schemas.xmlsoap.org/ws/2006/02/devprof" xmlns:pub="http://schemas.microsoft.com/windows/pub/2005/07"><s:Header/><s:Body><x:Metadata>` +
		section("ThisDevice", "<p:ThisDevice>"+element("FriendlyName", tells["name"])+element("FirmwareVersion", tells["firmware"])+element("SerialNumber", tells["serial"])+"</p:ThisDevice>") +
		section("ThisModel", "<p:ThisModel>"+element("Manufacturer", tells["maker"])+element("ModelName", tells["model"])+"</p:ThisModel>")
	if tells["computer"] != "" {
		document += section("Relationship", "<p:Relationship><p:Host><p:Types>pub:Computer</p:Types><pub:Computer>"+xmlText(tells["computer"])+"</pub:Computer></p:Host></p:Relationship>")
	}
	information := `<?xml version="1.0"?><s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope" xmlns:t="http://www.onvif.org/ver10/device/wsdl"><s:Body><t:GetDeviceInformationResponse>` +
		"<t:Manufacturer>" + xmlText(tells["maker"]) + "</t:Manufacturer><t:Model>" + xmlText(tells["model"]) + "</t:Model><t:FirmwareVersion>" + xmlText(tells["firmware"]) +
		"</t:FirmwareVersion><t:SerialNumber>" + xmlText(tells["serial"]) + "</t:SerialNumber></t:GetDeviceInformationResponse></s:Body></s:Envelope>"
	document += "</x:Metadata></s:Body></s:Envelope>"
	serveDocument(l, "application/soap+xml", func(r *http.Request) string {
		question, _ := io.ReadAll(io.LimitReader(r.Body, 1<<16)) // what breaks off asks for nothing
		switch {
		case r.Method != http.MethodPost:
			return ""
		case strings.Contains(string(question), "GetDeviceInformation") && tells["onvif"] == "open":
			return information
		case strings.Contains(string(question), "transfer/Get"):
			return document
		}
		return ""
	})
}

func xmlText(text string) string {
	var safe strings.Builder
	_ = xml.EscapeText(&safe, []byte(text)) // never fails: the builder takes everything
	return safe.String()
}

// serveSIP answers OPTIONS (RFC 3261, 11.2).
func serveSIP(conn net.PacketConn, b booth) {
	eachDatagram(conn, func(question []byte) [][]byte {
		if answer := sipAnswer(string(question), b.service); answer != "" {
			return [][]byte{[]byte(answer)}
		}
		return nil
	})
}

func sipAnswer(question string, s Service) string {
	if !strings.HasPrefix(question, "OPTIONS ") {
		return ""
	}
	var back []string
	for line := range strings.SplitSeq(question, "\r\n") {
		for _, field := range []string{"Via:", "From:", "To:", "Call-ID:", "CSeq:"} {
			if strings.HasPrefix(line, field) {
				back = append(back, line)
			}
		}
	}
	header := "Server"
	if s.Tells["agent"] != "" {
		header = "User-Agent"
	}
	if s.Tells["extension"] != "" {
		back = append(back, "Contact: <sip:"+s.Tells["extension"]+"@phone.example:5060>")
	}
	return "SIP/2.0 200 OK\r\n" + strings.Join(back, "\r\n") + "\r\n" + header + ": " + s.Tells["agent"] + s.Server +
		"\r\nAllow: INVITE, ACK, CANCEL, OPTIONS, BYE\r\nContent-Length: 0\r\n\r\n"
}

// serveNoise answers everything with bytes that mean nothing.
func serveNoise(conn net.PacketConn, _ booth) {
	eachDatagram(conn, func(question []byte) [][]byte {
		return [][]byte{{0xff, 0x00, 0x30}, append(slices.Clone(question), 0xff), []byte("\x1b[2J<script>")}
	})
}
