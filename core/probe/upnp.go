package probe

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"airdrift/core/evidence"
)

const (
	ssdpPort = 1900
	// maxTargets is how many search targets of one device are kept, maxDescriptions how many descriptions are read.
	maxTargets      = 32
	maxDescriptions = 2
)

// SSDPGroup is where the devices of a segment are searched (UPnP Device Architecture 2.0, 1.3.2).
var SSDPGroup = netip.MustParseAddrPort("239.255.255.250:1900")

// SSDP searches at one device (UPnP Device Architecture 2.0, 1.3.2: unicast search).
func SSDP(ctx context.Context, d Dialer, addr netip.Addr, wait time.Duration) ([]evidence.Item, bool) {
	f, to := byDatagram(d, addr, ssdpPort)
	s := &finding{}
	question := SearchQuestion(netip.AddrPortFrom(addr.WithZone(""), ssdpPort))
	err := search(ctx, d, to, question, question, wait, func(answer []byte) verdict {
		if s.take(answer) {
			return more
		}
		return ignore
	})
	if err != nil {
		return nil, false
	}
	s.tell(f)
	return f.items, true
}

// Descriptions reads the descriptions that a device has pointed to, on itself alone.
func Descriptions(ctx context.Context, d Dialer, addr netip.Addr, items []evidence.Item) []evidence.Item {
	f, _ := byDatagram(d, addr, ssdpPort)
	locations := evidence.Values(items, evidence.KeyUPnPLocation)
	for _, location := range locations[:min(len(locations), maxDescriptions)] {
		describe(ctx, f, addr, location)
	}
	return f.items
}

// SearchQuestion asks for everything that there is at a place, a device or a group.
func SearchQuestion(at netip.AddrPort) []byte {
	return fmt.Appendf(nil, "M-SEARCH * HTTP/1.1\r\nHOST: %s\r\nMAN: \"ssdp:discover\"\r\nMX: 1\r\nST: ssdp:all\r\nUSER-AGENT: airdrift\r\n\r\n", at)
}

// HeardSSDP reads what a device of the segment told, asked or not. ok is false where it is neither an answer nor an
// announcement.
func HeardSSDP(message []byte) (items []evidence.Item, ok bool) {
	s := &finding{}
	if !s.take(message) {
		return nil, false
	}
	f := &found{port: evidence.UDP(ssdpPort)}
	s.tell(f)
	return f.items, len(f.items) > 0
}

// finding is what one device has answered to a search so far.
type finding struct {
	servers, targets, locations []string
}

func (s *finding) take(message []byte) bool {
	var header http.Header
	switch {
	case bytes.HasPrefix(message, []byte("HTTP/1.")):
		resp, err := http.ReadResponse(bufio.NewReader(bytes.NewReader(message)), nil)
		if err != nil || resp.StatusCode != http.StatusOK {
			return false
		}
		header = resp.Header
	case bytes.HasPrefix(message, []byte("NOTIFY ")):
		request, err := http.ReadRequest(bufio.NewReader(bytes.NewReader(message)))
		if err != nil || request.Header.Get("Nts") == "ssdp:byebye" {
			return false
		}
		header = request.Header
	default:
		return false
	}
	target := header.Get("St")
	if target == "" {
		target = header.Get("Nt")
	}
	if target == "" {
		return false
	}
	s.servers, s.targets, s.locations = keep(s.servers, header.Get("Server")), keep(s.targets, target), keep(s.locations, header.Get("Location"))
	return true
}

// keep adds a text that is not in the list yet.
func keep(list []string, text string) []string {
	if text == "" || len(list) >= maxTargets || slices.Contains(list, text) {
		return list
	}
	return append(list, text)
}

func (s *finding) tell(f *found) {
	for _, told := range []struct {
		key  string
		list []string
	}{{evidence.KeyUPnPServer, s.servers}, {evidence.KeyUPnPTarget, s.targets}, {evidence.KeyUPnPLocation, s.locations}} {
		for _, text := range told.list {
			f.add(evidence.SourceUPnP, told.key, []byte(text))
		}
	}
}

// describe reads a device description (UPnP Device Architecture 2.0, 2.3), on the device itself only.
func describe(ctx context.Context, f *found, addr netip.Addr, location string) {
	page, err := url.Parse(location)
	if err != nil || page.Scheme != "http" || pageAddr(page).Addr() != addr.WithZone("") {
		return
	}
	body, ok := fetch(ctx, f, page, nil)
	if !ok {
		return
	}
	readDescription(body, f)
}

// fetch reads a page of the device, or what it answers to a message sent there; what is longer than maxAnswer is cut.
func fetch(ctx context.Context, f *found, page *url.URL, message []byte) (body []byte, ok bool) {
	conn, err := openPage(ctx, f, page)
	if err != nil {
		return nil, false
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	request := requestPage
	if message != nil {
		request = func(conn net.Conn, page *url.URL) error { return postMessage(conn, page, message) }
	}
	if err := request(conn, page); err != nil {
		return nil, false
	}
	resp, err := http.ReadResponse(bufio.NewReader(io.LimitReader(conn, maxAnswer)), nil)
	if err != nil {
		return nil, false
	}
	defer resp.Body.Close()
	body, _ = io.ReadAll(io.LimitReader(resp.Body, maxAnswer)) // what breaks off is read up to there
	return body, resp.StatusCode == http.StatusOK
}

// descriptionKeys are the elements of a description that are kept.
var descriptionKeys = map[string]string{
	"deviceType": evidence.KeyUPnPType, "friendlyName": evidence.KeyUPnPName, "manufacturer": evidence.KeyUPnPMaker, "modelName": evidence.KeyUPnPModel,
	"modelNumber": evidence.KeyUPnPNumber, "modelDescription": evidence.KeyUPnPText, "serialNumber": evidence.KeyUPnPSerial, "UDN": evidence.KeyUPnPID,
}

// readDescription takes the root device's own words; of devices within it only the type.
func readDescription(document []byte, f *found) {
	eachText(document, func(path []string, text string) {
		key := descriptionKeys[path[len(path)-1]]
		devices := 0
		for _, element := range path {
			if element == "device" {
				devices++
			}
		}
		if key != "" && (devices == 1 || devices > 1 && key == evidence.KeyUPnPType) && strings.TrimSpace(text) != "" {
			f.addOnce(evidence.SourceUPnP, key, []byte(text))
		}
	})
}
