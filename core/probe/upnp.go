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

// Keys of the facts.
const (
	keyUPnPTarget = "upnp.target"
	keyUPnPType   = "upnp.type"
	keyUPnPModel  = "upnp.model"
	keyUPnPNumber = "upnp.number"
	keyUPnPText   = "upnp.text"
	keyUPnPName   = "upnp.name"
	keyUPnPSerial = "upnp.serial"
	keyUPnPID     = "upnp.id"
)

var _ = register(Protocol{
	Name: "ssdp", Source: evidence.SourceUPnP, Cost: Middling,
	Port: evidence.UDP(ssdpPort), Ask: askSSDP, Pointer: evidence.KeyUPnPLocation, Points: descriptions,
	Groups: []Group{{At: ssdpGroup, Questions: searchQuestions}},
	Hear:   hearSSDP,
	Facts: []evidence.Fact{
		{Key: evidence.KeyUPnPServer, Says: "system and program, by its answers and announcements", Standard: "UPnP Device Architecture 2.0, 1.3", Example: "Linux/5.4 UPnP/1.0 vspr/2", Names: 7, Describes: true},
		{Key: keyUPnPTarget, Says: "a device or service type that it answers for", Standard: "UPnP Device Architecture 2.0, 1.3", Example: "upnp:rootdevice"},
		{Key: evidence.KeyUPnPLocation, Says: "where its description is", Standard: "UPnP Device Architecture 2.0, 1.3", Example: "http://10.40.1.9:80/d.xml"},
		{Key: keyUPnPType, Says: "type of the device, and of those within it", Standard: "UPnP Device Architecture 2.0, 2.3", Example: "urn:schemas-upnp-org:device:MediaRenderer:1"},
		{Key: evidence.KeyUPnPMaker, Says: "its maker", Standard: "UPnP Device Architecture 2.0, 2.3", Example: "Vesperlight"},
		{Key: keyUPnPModel, Says: "name of its model", Standard: "UPnP Device Architecture 2.0, 2.3", Example: "Lume 43", Names: 8, Describes: true},
		{Key: keyUPnPNumber, Says: "number of its model", Standard: "UPnP Device Architecture 2.0, 2.3", Example: "43-B", Describes: true},
		{Key: keyUPnPText, Says: "what its maker says of the model", Standard: "UPnP Device Architecture 2.0, 2.3", Example: "Display", Names: 6, Describes: true},
		{Key: keyUPnPName, Says: "the name its keeper sees", Standard: "UPnP Device Architecture 2.0, 2.3", Example: "Visitor hall", Describes: true, By: evidence.TheKeeper},
		{Key: keyUPnPSerial, Says: "serial number", Standard: "UPnP Device Architecture 2.0, 2.3", Example: "LF-0043-17"},
		{Key: keyUPnPID, Says: "unique device name", Standard: "UPnP Device Architecture 2.0, 2.3", Example: "uuid:4d69…", Use: evidence.Identifier},
	},
})

const (
	ssdpPort = 1900
	// maxTargets is how many search targets of one device are kept, maxDescriptions how many descriptions are read.
	maxTargets      = 32
	maxDescriptions = 2
)

// ssdpGroup is where the devices of a segment are searched (UPnP Device Architecture 2.0, 1.3.2).
var ssdpGroup = netip.MustParseAddrPort("239.255.255.250:1900")

// askSSDP searches at one device (UPnP Device Architecture 2.0, 1.3.2: unicast search).
func askSSDP(ctx context.Context, q Query) ([]evidence.Item, bool) {
	f, to := q.byDatagram(ssdpPort)
	s := &finding{}
	question := searchQuestion(netip.AddrPortFrom(q.Addr.WithZone(""), ssdpPort))
	err := search(ctx, q.Dialer, to, question, question, q.Wait, func(answer []byte) verdict {
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

// descriptions reads the descriptions that a device has pointed to when it was asked itself, on itself alone.
func descriptions(ctx context.Context, d Dialer, addr netip.Addr, items []evidence.Item) []evidence.Item {
	f, _ := byDatagram(d, addr, ssdpPort)
	locations := evidence.Values(items, evidence.KeyUPnPLocation)
	for _, location := range locations[:min(len(locations), maxDescriptions)] {
		describe(ctx, f, addr, location)
	}
	return f.items
}

// searchQuestions are put to the group.
func searchQuestions() ([][]byte, error) { return [][]byte{searchQuestion(ssdpGroup)}, nil }

// searchQuestion asks for everything that there is at a place, a device or a group.
func searchQuestion(at netip.AddrPort) []byte {
	return fmt.Appendf(nil, "M-SEARCH * HTTP/1.1\r\nHOST: %s\r\nMAN: \"ssdp:discover\"\r\nMX: 1\r\nST: ssdp:all\r\nUSER-AGENT: airdrift\r\n\r\n", at)
}

// hearSSDP reads what a device of the segment told, asked or not. ok is false where it is neither an answer nor an
// announcement.
func hearSSDP(d Datagram) (items []evidence.Item, ok bool) {
	s := &finding{}
	if !s.take(d.Message) {
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
	}{{evidence.KeyUPnPServer, s.servers}, {keyUPnPTarget, s.targets}, {evidence.KeyUPnPLocation, s.locations}} {
		for _, text := range told.list {
			f.add(evidence.SourceUPnP, told.key, []byte(text))
		}
	}
}

// describe reads a device description (UPnP Device Architecture 2.0, 2.3), on the device itself only.
func describe(ctx context.Context, f *found, addr netip.Addr, location string) {
	if body, ok := fetchAnnounced(ctx, f, addr, location, nil); ok {
		readDescription(body, f)
	}
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
	"deviceType": keyUPnPType, "friendlyName": keyUPnPName, "manufacturer": evidence.KeyUPnPMaker, "modelName": keyUPnPModel,
	"modelNumber": keyUPnPNumber, "modelDescription": keyUPnPText, "serialNumber": keyUPnPSerial, "UDN": keyUPnPID,
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
		if key != "" && (devices == 1 || devices > 1 && key == keyUPnPType) && strings.TrimSpace(text) != "" {
			f.addOnce(evidence.SourceUPnP, key, []byte(text))
		}
	})
}
