package probe

import (
	"context"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/registry"
)

// A device names pages of its own in its announcements: its description, its metadata. Anybody on the segment can announce in its
// name, so what is fetched is what does no harm: by HTTP, where HTTP is spoken, and nothing that looks like a command.

// control are ports at which machines are moved, measured and printed on, besides those of clientFirst (IANA Service Name and
// Transport Protocol Port Number Registry, and common practice). Nothing is ever sent there because somebody has named them.
var control = []uint16{
	102, 502, 503, 789, 1089, 1090, 1091, 1541, 1911, 1962, 2221, 2222, 2404, 2455, 3480, 3671, 4000, 4001, 4002, 4059, 4840, 4911, 5006, 5007, 5094, 5683, 5684, 9600,
	10001, 10307, 10311, 10364, 10365, 11001, 12135, 13722, 18245, 18246, 19999, 20000, 20547, 28784, 30718, 34962, 34963, 34964, 34980, 38000, 38001, 41100, 44818, 45678, 47808, 55555,
	515, 631, 6101, 9100, 9101, 9102, 9103, 9104, 9105, 9106, 9107, 9108, 9109,
}

// registeredForWeb are ports of HTTP by their registration, besides those that are spoken to as such.
var registeredForWeb = []uint16{591, 2869, 5357}

// isControlPort reports whether a port is one that is only ever spoken to in its own protocol.
func isControlPort(port uint16) bool {
	return slices.Contains(control, port) || slices.Contains(clientFirst, port)
}

// maxPath is the longest path of a page that is fetched, in bytes.
const maxPath = 512

// announcedPage gives the page that an announcement of a device names; ok is false for one that is not fetched: on another
// device, at a port that is not HTTP's, or with a question in it, which may be a command.
func announcedPage(addr netip.Addr, location string) (page *url.URL, ok bool) {
	page, err := url.Parse(location)
	if err != nil || page.Scheme != "http" || page.User != nil || page.RawQuery != "" || page.ForceQuery || len(page.EscapedPath()) > maxPath {
		return nil, false
	}
	if strings.ContainsFunc(page.Path, func(r rune) bool { return r < ' ' || r == 0x7f }) {
		return nil, false
	}
	to := pageAddr(page)
	if to.Addr() != addr.WithZone("") || isControlPort(to.Port()) {
		return nil, false
	}
	return page, true
}

// speaksHTTP reports whether a port is known to speak HTTP: by its registration, or by its own answer to the plainest of
// questions. A port that is registered for something else is not asked.
func speaksHTTP(ctx context.Context, f *found, page *url.URL) bool {
	port := pageAddr(page).Port()
	if isWebPort(port) {
		return true
	}
	if name := registry.ServiceName(evidence.TCP(port)); name != "" || byPort[port] != nil {
		return strings.Contains(name, "http")
	}
	conn, err := openPage(ctx, f, page)
	if err != nil {
		return false
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	if requestPage(conn, &url.URL{Scheme: page.Scheme, Host: page.Host, Path: "/"}) != nil {
		return false
	}
	first := make([]byte, len("HTTP/1."))
	for n := 0; n < len(first); {
		more, err := conn.Read(first[n:])
		if n += more; err != nil && n < len(first) {
			return false
		}
	}
	return string(first) == "HTTP/1."
}

// fetchAnnounced is fetch for a page that an announcement names.
func fetchAnnounced(ctx context.Context, f *found, addr netip.Addr, location string, message []byte) (body []byte, ok bool) {
	page, ok := announcedPage(addr, location)
	if !ok || !speaksHTTP(ctx, f, page) {
		return nil, false
	}
	return fetch(ctx, f, page, message)
}
