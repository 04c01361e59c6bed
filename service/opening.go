package service

import (
	"cmp"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strconv"

	"airdrift/api"
	"airdrift/core/evidence"
	"airdrift/core/ledger"
	"airdrift/core/registry"
)

// opener is a way to open a device at a port.
type opener struct {
	title, scheme string
	usual         uint16 // the port that its addresses need not name
}

var (
	webPage   = opener{"Web page", "http", 80}
	securely  = opener{"Web page", "https", 443}
	shell     = opener{"Secure shell", "ssh", 22}
	files     = opener{"Files", "ftp", 21}
	telnet    = opener{"Telnet", "telnet", 23}
	fileShare = opener{"File share", "smb", 445}
	desktop   = opener{"Remote desktop", "rdp", 3389}
	screen    = opener{"Screen", "vnc", 5900}
	pictures  = opener{"Pictures", "rtsp", 554}
)

// openers are the ways in the order in which they are shown: those that a browser follows first.
var openers = []opener{securely, webPage, shell, fileShare, desktop, screen, files, telnet, pictures}

// spoken are the ways by what was spoken at a port, and registered those by the name that is registered for it, where nothing was said.
var (
	spoken = map[evidence.Source]opener{
		evidence.SourceHTTP: webPage, evidence.SourceSSH: shell, evidence.SourceFTP: files, evidence.SourceSMB: fileShare, evidence.SourceRDP: desktop,
		evidence.SourceVNC: screen, evidence.SourceRTSP: pictures,
	}
	registered = map[string]opener{
		"http": webPage, "http-alt": webPage, "https": securely, "ssh": shell, "telnet": telnet, "ftp": files, "microsoft-ds": fileShare, "ms-wbt-server": desktop, "rfb": screen, "rtsp": pictures,
	}
)

// maxOpened is how many addresses of a device have links.
const maxOpened = 16

// linksTo gives the ways to open a device at each of its addresses, by the ports that were found open and what was spoken there. They are made of
// addresses and numbers of ports alone, and never of what the device says.
func linksTo(d ledger.Device) []api.Link {
	ways := waysInto(d.Items)
	links := []api.Link{}
	for _, addr := range d.Addrs[:min(len(d.Addrs), maxOpened)] {
		if addr.IsLinkLocalUnicast() {
			continue // it says nothing without the interface
		}
		for _, w := range ways {
			links = append(links, api.Link{Title: w.named(), URL: w.at(addr), Address: addr.String(), Port: evidence.TCP(w.port).String()})
		}
	}
	return links
}

// way is an opener at a port.
type way struct {
	opener
	port uint16
}

// waysInto gives the ways into a device, in the order of openers and within it of their ports.
func waysInto(items []evidence.Item) []way {
	by := map[uint16]opener{}
	for _, port := range evidence.Values(items, evidence.KeyTCPOpen) {
		number, err := strconv.ParseUint(port, 10, 16)
		if err != nil {
			continue
		}
		if o, known := registered[registry.ServiceName(evidence.TCP(uint16(number)))]; known {
			by[uint16(number)] = o
		} else {
			by[uint16(number)] = opener{}
		}
	}
	secured := map[uint16]bool{}
	for _, item := range items {
		if _, open := by[item.Port.Number]; !open || item.Port.Proto != "tcp" {
			continue
		}
		if o, known := spoken[item.Source]; known {
			by[item.Port.Number] = o
		}
		secured[item.Port.Number] = secured[item.Port.Number] || item.Source == evidence.SourceTLS
	}
	var ways []way
	for port, o := range by {
		if o == webPage && secured[port] {
			o = securely
		}
		if o != (opener{}) {
			ways = append(ways, way{o, port})
		}
	}
	slices.SortFunc(ways, func(a, b way) int {
		return cmp.Or(cmp.Compare(slices.Index(openers, a.opener), slices.Index(openers, b.opener)), cmp.Compare(a.port, b.port))
	})
	return ways
}

// named says what it opens, and at which port where that is not the usual one.
func (w way) named() string {
	if w.port == w.usual {
		return w.title
	}
	return fmt.Sprintf("%s, port %d", w.title, w.port)
}

// at gives its address (RFC 3986; IPv6 in brackets, 3.2.2).
func (w way) at(addr netip.Addr) string {
	host := addr.WithZone("").String()
	if w.port != w.usual {
		host = net.JoinHostPort(host, strconv.Itoa(int(w.port)))
	} else if addr.Is6() {
		host = "[" + host + "]"
	}
	return w.scheme + "://" + host
}
