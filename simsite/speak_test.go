package simsite

import (
	"bytes"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/gosnmp/gosnmp"
	"github.com/miekg/dns"
)

const talkers = `name: talkers
networks: [{name: a, subnet: 10.1.0.0/24}]
vantage: {network: a, address: 10.1.0.2, mac: "48:9b:34:00:00:01"}
credentials: [{name: read, version: 2c, community: hush}]
models:
  - name: all
    maker: Lab
    kind: switch
    is: All 9
    services:
      - {port: 161, speaks: snmp, tells: {community: hush, descr: "All 9", name: "{host}", interfaces: "3", maker: Lab, chassis: All 9, serial: "{serial}", services: "2", bridge: "yes"}}
      - {port: 5353, speaks: mdns, tells: {host: "{host}", instance: "{name}", offers: "_ipp._tcp:631", "txt._ipp._tcp": "ty=All 9;rp=x", model: All}}
      - {port: 1900, speaks: ssdp, tells: {type: "urn:x:device:Basic:1", server: "lab/1", name: "{name}", maker: "L & b", model: All 9}}
      - {port: 5060, speaks: sip, tells: {agent: Lab phone}}
      - {port: 123, speaks: ntp, tells: {stratum: "1", reference: GPS}}
      - {port: 21, speaks: ftp, says: files, tells: {system: LabOS}}
      - {port: 23, speaks: telnet, says: "lab login:"}
      - {speaks: lldp, tells: {name: "{host}", descr: All 9, role: bridge, model: All 9}}
devices:
  - name: lab switch
    model: all
    standing: managed
    legs: [{network: a, address: 10.1.0.9, mac: "48:9b:34:00:00:02"}]
`

// startTalkers starts a building of one device that speaks many protocols, and plugs in.
func startTalkers(t *testing.T) (*Site, *Wire) {
	t.Helper()
	scenario, err := Load("talkers", []byte(talkers))
	if err != nil {
		t.Fatal(err)
	}
	site, err := Start(scenario)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = site.Close() })
	w, err := site.Wire()
	if err != nil {
		t.Fatal(err)
	}
	return site, w
}

// datagramTo opens a socket to a port of the device, with a deadline.
func datagramTo(t *testing.T, w *Wire, port uint16) net.Conn {
	t.Helper()
	conn, err := w.DialContext(t.Context(), "udp", netip.AddrPortFrom(netip.MustParseAddr("10.1.0.9"), port))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = conn.Close() })
	if err := conn.SetDeadline(time.Now().Add(10 * time.Second)); err != nil {
		t.Fatal(err)
	}
	return conn
}

// TestAgentByAnIndependentLibrary asks the simulated agent as any manager does: values, what follows, whole tables, and in bulk.
func TestAgentByAnIndependentLibrary(t *testing.T) {
	_, w := startTalkers(t)
	session := func(version gosnmp.SnmpVersion, community string) *gosnmp.GoSNMP {
		s := &gosnmp.GoSNMP{Target: "127.0.0.1", Port: 9, Version: version, Community: community, Timeout: 2 * time.Second, UseUnconnectedUDPSocket: true}
		if err := s.Connect(); err != nil {
			t.Fatal(err)
		}
		_ = s.Conn.Close() // it was never used
		s.Conn = struct{ net.Conn }{datagramTo(t, w, 161)}
		return s
	}
	for _, version := range []gosnmp.SnmpVersion{gosnmp.Version1, gosnmp.Version2c} {
		s := session(version, "hush")
		got, err := s.Get([]string{".1.3.6.1.2.1.1.1.0"})
		if err != nil || len(got.Variables) != 1 || string(got.Variables[0].Value.([]byte)) != "All 9" {
			t.Fatalf("version %v: %+v, %v", version, got, err)
		}
		names, err := s.WalkAll(".1.3.6.1.2.1.2.2.1.2")
		if err != nil || len(names) != 3 || string(names[2].Value.([]byte)) != "Port 3" {
			t.Errorf("version %v: %d names of interfaces, %v", version, len(names), err)
		}
	}
	bulk, err := session(gosnmp.Version2c, "hush").GetBulk([]string{".1.3.6.1.2.1.2.2.1.1", ".1.3.6.1.2.1.2.2.1.2"}, 0, 3)
	if err != nil || len(bulk.Variables) != 6 || bulk.Variables[2].Name != ".1.3.6.1.2.1.2.2.1.1.2" || bulk.Variables[3].Name != ".1.3.6.1.2.1.2.2.1.2.2" {
		t.Errorf("in bulk, row by row: %+v, %v", bulk, err)
	}
	stranger := session(gosnmp.Version2c, "guess")
	stranger.Timeout = 50 * time.Millisecond
	if got, err := stranger.Get([]string{".1.3.6.1.2.1.1.1.0"}); err == nil {
		t.Errorf("a wrong community was answered: %+v", got)
	}
}

func TestResponderAndSearch(t *testing.T) {
	_, w := startTalkers(t)
	asker := datagramTo(t, w, 5353)
	question := new(dns.Msg).SetQuestion("_ipp._tcp.local.", dns.TypePTR)
	raw, err := question.Pack()
	if err != nil {
		t.Fatal(err)
	}
	if _, err := asker.Write(raw); err != nil {
		t.Fatal(err)
	}
	buf := make([]byte, 4096)
	n, err := asker.Read(buf)
	var answer dns.Msg
	if err != nil || answer.Unpack(buf[:n]) != nil || len(answer.Answer) != 1 || answer.Answer[0].(*dns.PTR).Ptr != `lab\ switch._ipp._tcp.local.` {
		t.Errorf("the responder says %v, %v", answer.Answer, err)
	}

	searcher := datagramTo(t, w, 1900)
	if _, err := searcher.Write([]byte("M-SEARCH * HTTP/1.1\r\nST: ssdp:all\r\n\r\n")); err != nil {
		t.Fatal(err)
	}
	if n, err = searcher.Read(buf); err != nil || !bytes.Contains(buf[:n], []byte("LOCATION: http://10.1.0.9:49200/description.xml")) {
		t.Errorf("the search gives %q, %v", buf[:n], err)
	}
	page := dial(t, w, 49200)
	request, err := http.NewRequest(http.MethodGet, "http://10.1.0.9/description.xml", nil)
	if err != nil {
		t.Fatal(err)
	}
	if err := request.Write(page); err != nil {
		t.Fatal(err)
	}
	if n, err = page.Read(buf); err != nil || !bytes.Contains(buf[:n], []byte("<manufacturer>L &amp; b</manufacturer>")) {
		t.Errorf("the description is %q, %v", buf[:n], err)
	}
}

func TestOtherTalkers(t *testing.T) {
	site, w := startTalkers(t)
	buf := make([]byte, 2048)
	phone := datagramTo(t, w, 5060)
	if _, err := phone.Write([]byte("OPTIONS sip:10.1.0.9 SIP/2.0\r\nCall-ID: 7\r\n\r\n")); err != nil {
		t.Fatal(err)
	}
	if n, err := phone.Read(buf); err != nil || !bytes.Contains(buf[:n], []byte("User-Agent: Lab phone")) || !bytes.Contains(buf[:n], []byte("Call-ID: 7")) {
		t.Errorf("the telephone says %q, %v", buf[:n], err)
	}
	clock := datagramTo(t, w, 123)
	if _, err := clock.Write(append([]byte{4<<3 | 3}, make([]byte, 47)...)); err != nil {
		t.Fatal(err)
	}
	if n, err := clock.Read(buf); err != nil || n != 48 || buf[1] != 1 || string(buf[12:15]) != "GPS" {
		t.Errorf("the clock says %x, %v", buf[:n], err)
	}
	closed := datagramTo(t, w, 4444)
	if _, err := closed.Write([]byte("anybody?")); err != nil {
		t.Fatal(err)
	}
	if _, err := closed.Read(buf); err == nil || !strings.Contains(err.Error(), "refused") {
		t.Errorf("a port at which nothing listens says %v", err)
	}
	terminal := dial(t, w, 23)
	if n, err := terminal.Read(buf); err != nil || !bytes.Equal(buf[:n], []byte{255, 251, 1, 255, 253, 31}) {
		t.Errorf("the terminal begins with %x, %v", buf[:n], err)
	}
	frames, err := w.Frames(t.Context(), 0x88cc)
	if err != nil {
		t.Fatal(err)
	}
	defer frames.Close()
	if err := frames.SetReadDeadline(time.Now().Add(10 * time.Second)); err != nil {
		t.Fatal(err)
	}
	if frame, err := frames.ReadFrame(buf); err != nil || !bytes.Contains(frame.Bytes, []byte("lab-switch")) {
		t.Errorf("the neighbour tells %q, %v", frame.Bytes, err)
	}
	if truth := site.Scenario.Truth()[0]; truth.Model.Is != "All 9" || len(site.Scenario.NewCredentials()) != 1 {
		t.Errorf("the truth is %+v", truth)
	}
}
