package probe

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"time"

	"golang.org/x/net/html"
	"golang.org/x/net/html/charset"

	"airdrift/core/evidence"
)

// maxMoves is how often one exchange follows a device that sends it to another page of its own.
const maxMoves = 3

// talkHTTP asks for the start page (RFC 9110), and follows where the device sends it on within itself.
func talkHTTP(ctx context.Context, conn net.Conn, addr netip.AddrPort, f *found) {
	talkPages(ctx, conn, startPage("http", addr), f)
}

// startPage gives the page that a device shows first. A zone has a meaning on our side only (RFC 6874, 3).
func startPage(scheme string, addr netip.AddrPort) *url.URL {
	return &url.URL{Scheme: scheme, Host: netip.AddrPortFrom(addr.Addr().WithZone(""), addr.Port()).String(), Path: "/"}
}

func talkPages(ctx context.Context, conn net.Conn, page *url.URL, f *found) {
	for moves := 0; ; moves++ {
		location := askPage(conn, page, f)
		next := movedTo(page, location)
		if next == nil || moves == maxMoves {
			return
		}
		further, err := openPage(ctx, f, next)
		if err != nil {
			return // it sent us where nobody answers; what it said so far stands
		}
		defer further.Close()
		conn, page = further, next
	}
}

// askPage asks for one page and gives where the device sends us instead, or "".
func askPage(conn net.Conn, page *url.URL, f *found) (location string) {
	// Some small servers know only HTTP/1.0 or close at once; 1.1 with "close" is understood by all that matter.
	_, err := fmt.Fprintf(conn, "GET %s HTTP/1.1\r\nHost: %s\r\nUser-Agent: airdrift\r\nAccept: text/html, */*\r\nConnection: close\r\n\r\n",
		page.RequestURI(), page.Host)
	if err != nil {
		return ""
	}
	return readHTTP(conn, f)
}

// movedTo gives the page that a device sends us on to, and nil where that is not on the device itself: on the same port,
// or on one that is not asked for words of its own accord.
func movedTo(page *url.URL, location string) *url.URL {
	if location == "" {
		return nil
	}
	next, err := page.Parse(location)
	if err != nil || next.Scheme != "http" && next.Scheme != "https" {
		return nil
	}
	from, to := pageAddr(page), pageAddr(next)
	onDevice := to.IsValid() && to.Addr() == from.Addr()
	if !onDevice || to.Port() != from.Port() && Speaks(to.Port()) || next.String() == page.String() {
		return nil
	}
	return next
}

// pageAddr gives the address and port of a page; invalid where its host is a name.
func pageAddr(page *url.URL) netip.AddrPort {
	addr, err := netip.ParseAddr(page.Hostname())
	if err != nil {
		return netip.AddrPort{}
	}
	port, err := strconv.ParseUint(page.Port(), 10, 16)
	if err != nil {
		port = map[string]uint64{"http": 80, "https": 443}[page.Scheme]
	}
	return netip.AddrPortFrom(addr, uint16(port))
}

// openPage connects to where a page is.
func openPage(ctx context.Context, f *found, page *url.URL) (net.Conn, error) {
	wait, cancel := context.WithTimeout(ctx, greetingWait)
	defer cancel()
	to := pageAddr(page)
	conn, err := f.dialer.DialContext(wait, "tcp", netip.AddrPortFrom(to.Addr().WithZone(f.zone), to.Port()))
	if err != nil {
		return nil, err
	}
	_ = conn.SetDeadline(time.Now().Add(exchangeWait))
	if page.Scheme == "http" {
		return conn, nil
	}
	secured := tls.Client(conn, tlsConfig())
	if err := secured.HandshakeContext(wait); err != nil {
		conn.Close()
		return nil, err
	}
	return secured, nil
}

// readHTTP reads one response, of which it believes no length beyond maxAnswer, and gives where it sends us on to.
func readHTTP(r io.Reader, f *found) (location string) {
	resp, err := http.ReadResponse(bufio.NewReader(io.LimitReader(r, maxAnswer)), nil)
	if err != nil {
		return ""
	}
	defer resp.Body.Close()
	f.add(evidence.SourceHTTP, evidence.KeyHTTPStatus, []byte(strconv.Itoa(resp.StatusCode)))
	f.add(evidence.SourceHTTP, evidence.KeyHTTPServer, []byte(resp.Header.Get("Server")))
	f.add(evidence.SourceHTTP, evidence.KeyHTTPRealm, []byte(realm(resp.Header.Values("WWW-Authenticate"))))
	if resp.StatusCode >= 300 && resp.StatusCode < 400 {
		location = resp.Header.Get("Location")
		f.add(evidence.SourceHTTP, evidence.KeyHTTPMoved, []byte(location))
	}
	// A page that breaks off still has its title in what came.
	body, _ := io.ReadAll(io.LimitReader(resp.Body, maxAnswer))
	f.add(evidence.SourceHTTP, evidence.KeyHTTPTitle, []byte(pageTitle(body, resp.Header.Get("Content-Type"))))
	return location
}

var realmForm = regexp.MustCompile(`(?i)\brealm="((?:[^"\\]|\\.)*)"`)

// realm gives the first protection space a challenge names (RFC 9110, 11.5).
func realm(challenges []string) string {
	for _, c := range challenges {
		if m := realmForm.FindStringSubmatch(c); m != nil {
			return strings.ReplaceAll(m[1], `\`, "")
		}
	}
	return ""
}

// pageTitle gives the text of the first title element, with white space folded.
func pageTitle(body []byte, contentType string) string {
	decoded, err := charset.NewReader(bytes.NewReader(body), contentType)
	if err != nil {
		return ""
	}
	tokens := html.NewTokenizer(decoded)
	tokens.SetMaxBuf(maxAnswer)
	for inTitle := false; ; {
		switch tokens.Next() {
		case html.ErrorToken:
			return ""
		case html.StartTagToken:
			name, _ := tokens.TagName()
			inTitle = string(name) == "title"
		case html.TextToken:
			if inTitle {
				return strings.Join(strings.Fields(string(tokens.Text())), " ")
			}
		case html.EndTagToken:
			inTitle = false
		}
	}
}
