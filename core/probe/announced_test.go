package probe

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"airdrift/core/evidence"
)

// recordingDialer is a device that speaks HTTP at some ports, and notes what it is sent at which.
type recordingDialer struct {
	web   []uint16
	mu    sync.Mutex // guards asked
	asked []string
}

func (d *recordingDialer) Dial(_ context.Context, _ string, addr netip.AddrPort, _ time.Duration) (net.Conn, error) {
	ours, theirs := net.Pipe()
	go func() {
		defer theirs.Close()
		request, err := http.ReadRequest(bufio.NewReader(theirs))
		if err != nil {
			return
		}
		d.mu.Lock()
		d.asked = append(d.asked, fmt.Sprintf("%d %s %s", addr.Port(), request.Method, request.RequestURI))
		d.mu.Unlock()
		if !slices.Contains(d.web, addr.Port()) {
			_, _ = io.WriteString(theirs, "ERR unknown command\r\n")
			return
		}
		const document = "<root><device><modelName>Wyrm 3</modelName></device></root>"
		fmt.Fprintf(theirs, "HTTP/1.1 200 OK\r\nContent-Length: %d\r\n\r\n%s", len(document), document)
	}()
	return ours, nil
}

// Whatever pages are announced, nothing is sent to control and printing ports, nothing that could be a command is asked for, and
// a port that is not known to be HTTP's is first asked for its start page alone.
func TestAnnouncedPagesDoNoHarm(t *testing.T) {
	device := netip.MustParseAddr("10.40.1.9")
	for _, tt := range []struct {
		location string
		want     string // what is sent to which port
		reads    bool
	}{
		{"http://10.40.1.9:8080/desc.xml", "8080 GET /desc.xml", true},
		{"http://10.40.1.9:5357/desc.xml", "5357 GET /desc.xml", true},
		{"http://10.40.1.9/desc.xml", "80 GET /desc.xml", true},
		{"http://10.40.1.9:49153/desc.xml", "49153 GET / 49153 GET /desc.xml", true},
		{"http://10.40.1.9:49154/desc.xml", "49154 GET /", false}, // which answers, and not by HTTP
		{"http://10.40.1.9:8080/cgi/reboot?now=1", "", false},
		{"http://10.40.1.9:8080/cgi/reboot?", "", false},
		{"http://user@10.40.1.9:8080/desc.xml", "", false},
		{"http://10.40.1.9:8080/" + strings.Repeat("a", 600), "", false},
		{"http://10.40.1.9:8080/a%0d%0aDELETE%20/", "", false},
		{"http://10.40.1.9:502/desc.xml", "", false},
		{"http://10.40.1.9:9100/desc.xml", "", false},
		{"http://10.40.1.9:20000/desc.xml", "", false},
		{"http://10.40.1.9:47808/desc.xml", "", false},
		{"http://10.40.1.9:22/desc.xml", "", false},
		{"http://10.40.1.9:3306/desc.xml", "", false}, // registered for something else
		{"http://10.40.1.8:8080/desc.xml", "", false},
		{"https://10.40.1.9:8443/desc.xml", "", false},
		{"http://device.example/desc.xml", "", false},
		{"http://0x0a280109:8080/desc.xml", "", false},
		{"file:///etc/passwd", "", false},
		{"://", "", false},
	} {
		d := &recordingDialer{web: []uint16{80, 8080, 5357, 49153}}
		items := descriptions(t.Context(), d, device, []evidence.Item{{Key: evidence.KeyUPnPLocation, Value: tt.location}})
		if got := strings.Join(d.asked, " "); got != tt.want {
			t.Errorf("%.60s: sent %q, want %q", tt.location, got, tt.want)
		}
		if reads := evidence.First(items, keyUPnPModel) == "Wyrm 3"; reads != tt.reads {
			t.Errorf("%.60s: told %+v", tt.location, items)
		}
	}
}

// A page that sends us on to a control port is not followed there.
func TestPagesAreNotFollowedToControlPorts(t *testing.T) {
	page := startPage("http", netip.MustParseAddrPort("10.40.1.9:80"))
	for location, followed := range map[string]bool{"http://10.40.1.9:8123/": true, "/start": true, "http://10.40.1.9:502/": false, "http://10.40.1.9:9100/": false, "http://10.40.1.9:20000/": false} {
		if (movedTo(page, location) != nil) != followed {
			t.Errorf("%s: followed %t, want %t", location, !followed, followed)
		}
	}
}
