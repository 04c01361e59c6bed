package probe

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/net/html"
	"golang.org/x/net/html/charset"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keyHTTPRealm     = "http.realm"
	keyHTTPSignIn    = "http.sign-in"
	keyHTTPMoved     = "http.redirect"
	keyHTTPGenerator = "http.generator"
	keyHTTPLink      = "http.link"
	keyHTTPText      = "http.text"
	keyHTTPIcon      = "http.icon"
)

var _ = register(Protocol{
	Name: "http", Source: evidence.SourceHTTP, Cost: Middling,
	Ports: webPorts, Usual: []uint16{80, 8000, 8080}, Telling: []uint16{80, 3000, 5000, 8000, 8008, 8080, 8081}, RollCall: []uint16{80}, Talk: talkHTTP,
	Parts: []string{"webdav"},
	Facts: slices.Concat(davFacts, []evidence.Fact{
		{Key: evidence.KeyHTTPStatus, Says: "status code of the start page", Standard: "RFC 9110", Example: "401"},
		{Key: evidence.KeyHTTPTitle, Says: "the page's title, white space folded", Standard: "HTML", Example: "Inkwell 220", Names: 8, Describes: true, By: evidence.ThePage},
		{Key: evidence.KeyHTTPServer, Says: "the field Server", Standard: "RFC 9110, 10.2.4", Example: "nginx/1.22.1", Names: 9, Describes: true},
		{Key: keyHTTPRealm, Says: "the protection space that a password is wanted for", Standard: "RFC 9110, 11.5", Example: "Gaze 5", Names: 9, Describes: true},
		{Key: keyHTTPSignIn, Says: "how it wants a password: by a scheme such as `basic` or `digest`, or in a `form` of the page", Standard: "RFC 9110, 11; HTML, 4.10.5.1.6", Example: "basic"},
		{Key: keyHTTPMoved, Says: "where the page sends on to; followed within the same device", Standard: "RFC 9110, 10.2.2", Example: "/login"},
		{Key: keyHTTPGenerator, Says: "the program that made the page", Standard: "HTML, meta", Example: "WordPress 6.4"},
		{Key: keyHTTPLink, Says: "what it points to as a description of itself, behind the relation; at most 8", Standard: "RFC 8288", Example: "describedby /device.xml"},
		{Key: keyHTTPText, Says: "the beginning of what a reader sees, 400 bytes at most", Standard: "HTML", Example: "Welcome to the garden", Names: 5},
		{Key: keyHTTPIcon, Says: "SHA-256 of the page's icon; not at the gentlest pace", Standard: "HTML", Example: "7dd5b221…"},
	}),
})

// webPorts are spoken to by HTTP.
var webPorts = []uint16{80, 81, 3000, 5000, 5985, 7080, 8000, 8008, 8080, 8081, 8088, 8888, 9000, 9090, 10000}

// isWebPort reports whether a port is one of HTTP in the clear.
func isWebPort(port uint16) bool {
	return slices.Contains(webPorts, port) || slices.Contains(registeredForWeb, port)
}

// maxMoves is how often one exchange follows a device that sends it to another page of its own.
const maxMoves = 3

// talkHTTP asks for the start page (RFC 9110), and follows where the device sends it on within itself.
func talkHTTP(ctx context.Context, conn net.Conn, addr netip.AddrPort, f *found) {
	talkPages(ctx, conn, startPage("http", addr), f)
	askDAV(ctx, startPage("http", addr), f)
}

// startPage gives the page that a device shows first. A zone has a meaning on our side only (RFC 6874, 3).
func startPage(scheme string, addr netip.AddrPort) *url.URL {
	return &url.URL{Scheme: scheme, Host: netip.AddrPortFrom(addr.Addr().WithZone(""), addr.Port()).String(), Path: "/"}
}

func talkPages(ctx context.Context, conn net.Conn, page *url.URL, f *found) {
	for moves := 0; ; moves++ {
		location, icon := askPage(conn, page, f)
		next := movedTo(page, location)
		if next == nil || moves == maxMoves {
			conn.Close()
			if icon != "" && f.thorough {
				askIcon(ctx, f, page, icon)
			}
			return
		}
		conn.Close() // so that a device never holds two of ours at once
		further, err := openPage(ctx, f, next)
		if err != nil {
			return // it sent us where nobody answers; what it said so far stands
		}
		conn, page = further, next
	}
}

// askPage asks for one page and gives where the device sends us instead, and where its icon is; or "".
func askPage(conn net.Conn, page *url.URL, f *found) (location, icon string) {
	if err := requestPage(conn, page); err != nil {
		return "", ""
	}
	return readHTTP(conn, f)
}

// requestPage sends the request for one page. Some small servers know only HTTP/1.0 or close at once; 1.1 with "close" is
// understood by all that matter.
func requestPage(conn net.Conn, page *url.URL) error {
	_, err := fmt.Fprintf(conn, "GET %s HTTP/1.1\r\nHost: %s\r\nUser-Agent: airdrift\r\nAccept: text/html, */*\r\nConnection: close\r\n\r\n",
		page.RequestURI(), page.Host)
	return err
}

// postMessage sends a SOAP message to a page (SOAP 1.2 Part 2, 7).
func postMessage(conn net.Conn, page *url.URL, message []byte) error {
	_, err := fmt.Fprintf(conn, "POST %s HTTP/1.1\r\nHost: %s\r\nUser-Agent: airdrift\r\nContent-Type: application/soap+xml; charset=utf-8\r\nContent-Length: %d\r\nConnection: close\r\n\r\n%s",
		page.RequestURI(), page.Host, len(message), message)
	return err
}

// movedTo gives the page that a device sends us on to, and nil where that is not on the device itself: on the same port,
// or on one that is neither asked for words of its own accord nor a machine's.
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
	if !onDevice || to.Port() != from.Port() && (isUsual(to.Port()) || isControlPort(to.Port())) || next.String() == page.String() {
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
	to := pageAddr(page)
	conn, err := f.dialer.Dial(ctx, "tcp", netip.AddrPortFrom(to.Addr().WithZone(f.zone), to.Port()), greetingWait)
	if err != nil {
		return nil, err
	}
	_ = conn.SetDeadline(time.Now().Add(exchangeWait))
	if page.Scheme == "http" {
		return conn, nil
	}
	wait, cancel := context.WithTimeout(ctx, greetingWait)
	defer cancel()
	secured := tls.Client(conn, tlsConfig(webProtocols...))
	if err := secured.HandshakeContext(wait); err != nil {
		conn.Close()
		return nil, err
	}
	return secured, nil
}

// readHTTP reads one response, of which it believes no length beyond maxAnswer, and gives where it sends us on to.
func readHTTP(r io.Reader, f *found) (location, icon string) {
	resp, err := http.ReadResponse(bufio.NewReader(io.LimitReader(r, maxAnswer)), nil)
	if err != nil {
		return "", ""
	}
	defer resp.Body.Close()
	f.add(evidence.SourceHTTP, evidence.KeyHTTPStatus, []byte(strconv.Itoa(resp.StatusCode)))
	f.add(evidence.SourceHTTP, evidence.KeyHTTPServer, []byte(resp.Header.Get("Server")))
	f.add(evidence.SourceHTTP, keyHTTPRealm, []byte(realm(resp.Header.Values("WWW-Authenticate"))))
	for _, scheme := range schemes(resp.Header.Values("WWW-Authenticate")) {
		f.addOnce(evidence.SourceHTTP, keyHTTPSignIn, []byte(scheme))
	}
	if resp.StatusCode >= 300 && resp.StatusCode < 400 {
		location = resp.Header.Get("Location")
		f.add(evidence.SourceHTTP, keyHTTPMoved, []byte(location))
	}
	// A page that breaks off still has its title in what came.
	body, _ := io.ReadAll(io.LimitReader(resp.Body, maxAnswer))
	p := readPage(body, resp.Header.Get("Content-Type"))
	p.takeHeader(resp.Header.Values("Link"))
	f.add(evidence.SourceHTTP, evidence.KeyHTTPTitle, []byte(p.title))
	f.add(evidence.SourceHTTP, keyHTTPGenerator, []byte(p.generator))
	f.add(evidence.SourceHTTP, keyHTTPText, []byte(p.text))
	if p.password {
		f.addOnce(evidence.SourceHTTP, keyHTTPSignIn, []byte("form"))
	}
	for _, link := range p.links {
		f.addOnce(evidence.SourceHTTP, keyHTTPLink, []byte(link))
	}
	if location == "" && p.title == "" { // with one it is the page that is shown
		location = p.onward
	}
	return location, p.icon
}

var realmForm = regexp.MustCompile(`(?i)\brealm="((?:[^"\\]|\\.)*)"`)

// schemeForm is the name of a scheme at the beginning of a challenge (RFC 9110, 11.1).
var schemeForm = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9-]{0,30}(?: |$)`)

// schemes gives the schemes by which a device challenges, one of each field.
func schemes(challenges []string) (names []string) {
	for _, c := range challenges[:min(len(challenges), 8)] {
		if name := schemeForm.FindString(strings.TrimSpace(c)); name != "" {
			names = append(names, strings.ToLower(strings.TrimSpace(name)))
		}
	}
	return names
}

// realm gives the first protection space a challenge names (RFC 9110, 11.5).
func realm(challenges []string) string {
	for _, c := range challenges {
		if m := realmForm.FindStringSubmatch(c); m != nil {
			return strings.ReplaceAll(m[1], `\`, "")
		}
	}
	return ""
}

// page is what a start page says beside its header.
type page struct {
	title     string
	generator string   // the program that made it
	icon      string   // where its icon is
	onward    string   // where it goes on to by itself: by a refresh, or its first frame
	links     []string // what it points to as a description of itself, each with the relation
	text      string   // the beginning of what a reader sees
	password  bool     // a field of it wants a password
}

// maxText is how much of a page's text is kept, in bytes; maxLinks how many links.
const (
	maxText  = 400
	maxLinks = 8
)

// relations are the kinds of link that lead to what describes a device (IANA Link Relations).
var relations = map[string]bool{"describedby": true, "service-desc": true, "service-doc": true, "manifest": true, "search": true, "alternate": true}

// readPage takes a page apart; what breaks off is read up to there.
func readPage(body []byte, contentType string) page {
	var p page
	decoded, err := charset.NewReader(bytes.NewReader(body), contentType)
	if err != nil {
		return p
	}
	tokens := html.NewTokenizer(decoded)
	tokens.SetMaxBuf(maxAnswer)
	within := ""
	var text strings.Builder
	for {
		switch tokens.Next() {
		case html.ErrorToken:
			p.text = strings.TrimSpace(text.String())
			return p
		case html.StartTagToken, html.SelfClosingTagToken:
			token := tokens.Token()
			within = token.Data
			p.takeElement(token)
		case html.TextToken:
			words := strings.Join(strings.Fields(string(tokens.Text())), " ")
			switch {
			case within == "title" && p.title == "":
				p.title = words
			case within == "script" || within == "style" || within == "title" || words == "":
			case text.Len() < maxText:
				text.WriteString(words[:min(len(words), maxText-text.Len())])
				text.WriteByte(' ')
			}
		case html.EndTagToken:
			within = ""
		}
	}
}

// refreshForm is a refresh that goes to another page (HTML, 4.2.5.3).
var refreshForm = regexp.MustCompile(`(?i)^\s*\d+(?:\.\d*)?\s*[;,]\s*url\s*=\s*(.+)$`)

func (p *page) takeElement(token html.Token) {
	attributes := map[string]string{}
	for _, a := range token.Attr {
		attributes[a.Key] = a.Val
	}
	switch token.Data {
	case "meta":
		if strings.EqualFold(attributes["name"], "generator") {
			p.generator = attributes["content"]
		}
		if m := refreshForm.FindStringSubmatch(attributes["content"]); m != nil && strings.EqualFold(attributes["http-equiv"], "refresh") && p.onward == "" {
			p.onward = strings.Trim(m[1], `'" `)
		}
	case "frame", "iframe":
		if p.onward == "" && attributes["src"] != "" {
			p.onward = attributes["src"]
		}
	case "input":
		p.password = p.password || strings.EqualFold(strings.TrimSpace(attributes["type"]), "password")
	case "link":
		p.takeLink(strings.ToLower(attributes["rel"]), attributes["href"])
	}
}

func (p *page) takeLink(relation, target string) {
	for _, r := range strings.Fields(relation) {
		if r == "icon" && p.icon == "" {
			p.icon = target
		}
		if relations[r] && target != "" && len(p.links) < maxLinks {
			p.links = append(p.links, r+" "+target)
		}
	}
}

// linkForm is a Link header's target and relation (RFC 8288, 3).
var linkForm = regexp.MustCompile(`(?i)<([^>]*)>[^,]*;\s*rel="?([a-z -]+)"?`)

// takeHeader takes links out of headers.
func (p *page) takeHeader(values []string) {
	for _, value := range values {
		for _, m := range linkForm.FindAllStringSubmatch(value, maxLinks) {
			p.takeLink(strings.ToLower(m[2]), m[1])
		}
	}
}

// askIcon reads the page's icon and notes its hash, by which like devices are told.
func askIcon(ctx context.Context, f *found, at *url.URL, icon string) {
	next, err := at.Parse(icon)
	if err != nil || pageAddr(next) != pageAddr(at) || next.Scheme != at.Scheme {
		return
	}
	if body, ok := fetch(ctx, f, next, nil); ok && len(body) > 0 {
		sum := sha256.Sum256(body)
		f.add(evidence.SourceHTTP, keyHTTPIcon, []byte(hex.EncodeToString(sum[:])))
	}
}
