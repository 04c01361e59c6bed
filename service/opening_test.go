package service

import (
	"net/netip"
	"slices"
	"testing"

	"airdrift/core/evidence"
	"airdrift/core/ledger"
)

// A device is opened at each of its addresses by what was spoken at a port, or by the port's registered name where nothing was said. What it says of
// itself, such as another port or a script, has no part in it.
func TestLinksToADevice(t *testing.T) {
	open := func(port string) evidence.Item {
		return evidence.Item{Source: evidence.SourceTCP, Key: evidence.KeyTCPOpen, Value: port}
	}
	said := func(source evidence.Source, port uint16) evidence.Item {
		return evidence.Item{Source: source, Key: evidence.KeyHTTPTitle, Port: evidence.TCP(port), Value: `javascript:alert(1) http://198.51.100.1:99/`}
	}
	items := []evidence.Item{
		open("443"), open("8443"), open("8081"), open("2222"), open("22"), open("3389"), open("445"), open("9999"), open("not a port"),
		said(evidence.SourceTLS, 8443), said(evidence.SourceHTTP, 8443), said(evidence.SourceHTTP, 8081), said(evidence.SourceSSH, 2222),
		said(evidence.SourceHTTP, 7000), // was not found open
	}
	device := ledger.Device{Addrs: []netip.Addr{netip.MustParseAddr("10.40.1.9"), netip.MustParseAddr("fd12:40::9"), netip.MustParseAddr("fe80::1")}, Items: items}
	var got []string
	for _, l := range linksTo(device) {
		got = append(got, l.Address+" "+l.URL+" "+l.Title)
	}
	want := []string{
		"10.40.1.9 https://10.40.1.9 Web page", "10.40.1.9 https://10.40.1.9:8443 Web page, port 8443", "10.40.1.9 http://10.40.1.9:8081 Web page, port 8081",
		"10.40.1.9 ssh://10.40.1.9 Secure shell", "10.40.1.9 ssh://10.40.1.9:2222 Secure shell, port 2222", "10.40.1.9 smb://10.40.1.9 File share",
		"10.40.1.9 rdp://10.40.1.9 Remote desktop",
		"fd12:40::9 https://[fd12:40::9] Web page", "fd12:40::9 https://[fd12:40::9]:8443 Web page, port 8443", "fd12:40::9 http://[fd12:40::9]:8081 Web page, port 8081",
		"fd12:40::9 ssh://[fd12:40::9] Secure shell", "fd12:40::9 ssh://[fd12:40::9]:2222 Secure shell, port 2222", "fd12:40::9 smb://[fd12:40::9] File share",
		"fd12:40::9 rdp://[fd12:40::9] Remote desktop",
	}
	if !slices.Equal(got, want) {
		t.Errorf("it is opened by\n%q, want\n%q", got, want)
	}
}

// An agent that was asked at two addresses tells its interfaces twice; the one that the device announces itself from leads to the vantage.
func TestInterfacesOnce(t *testing.T) {
	row := func(index int, name string) evidence.Item {
		return evidence.Item{Source: evidence.SourceSNMP, Key: evidence.KeySNMPInterface, Value: evidence.Row(evidence.Interface{Index: index, Name: name, Up: true})}
	}
	list := toInterfaces([]evidence.Item{row(1, "p1"), row(2, "p2"), row(1, "p1"), {Source: evidence.SourceLLDP, Key: "lldp.port", Value: "p2"}})
	if len(list) != 2 || list[0].Here || !list[1].Here {
		t.Errorf("the interfaces are %+v", list)
	}
}
