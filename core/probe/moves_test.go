package probe

import (
	"bufio"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"io"
	"math/big"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"airdrift/core/evidence"
)

// pages is a device whose pages answer with the texts given, and notes where it was connected to.
type pages struct {
	texts  map[string]string // by host:port and path
	dialed []string
}

func (p *pages) Dial(_ context.Context, _ string, addr netip.AddrPort, _ time.Duration) (net.Conn, error) {
	p.dialed = append(p.dialed, addr.String())
	ours, theirs := net.Pipe()
	go p.serve(theirs, addr.String())
	return ours, nil
}

func (p *pages) serve(conn net.Conn, at string) {
	defer conn.Close()
	request, err := http.ReadRequest(bufio.NewReader(conn))
	if err == nil {
		_, _ = io.WriteString(conn, p.texts[at+request.URL.Path])
	}
}

func TestMovesWithinTheDeviceAreFollowed(t *testing.T) {
	const at = "10.40.1.9:80"
	moved := func(to string) string {
		return "HTTP/1.1 302 Found\r\nLocation: " + to + "\r\nContent-Length: 0\r\n\r\n"
	}
	title := func(text string) string { return "HTTP/1.1 200 OK\r\n\r\n<title>" + text + "</title>" }
	for _, tt := range []struct {
		name  string
		texts map[string]string
		title string
		dials int
	}{
		{"another page", map[string]string{at + "/": moved("/login"), at + "/login": title("Sign in")}, "Sign in", 1},
		{"an odd port", map[string]string{at + "/": moved("http://10.40.1.9:8089/x"), "10.40.1.9:8089/x": title("Elsewhere")}, "Elsewhere", 1},
		{"a port that is asked anyway", map[string]string{at + "/": moved("http://10.40.1.9:8080/")}, "", 0},
		{"another device", map[string]string{at + "/": moved("http://10.40.1.10/")}, "", 0},
		{"a name", map[string]string{at + "/": moved("http://portal.example/")}, "", 0},
		{"another scheme", map[string]string{at + "/": moved("ftp://10.40.1.9/")}, "", 0},
		{"itself", map[string]string{at + "/": moved("/")}, "", 0},
		{"for ever", map[string]string{at + "/": moved("/a"), at + "/a": moved("/b"), at + "/b": moved("/a")}, "", maxMoves},
	} {
		p := &pages{texts: tt.texts}
		ours, theirs := net.Pipe()
		go p.serve(theirs, at)
		items := firstWords(t.Context(), p, ours, netip.MustParseAddrPort(at))
		if got := evidence.First(items, evidence.KeyHTTPTitle); got != tt.title || len(p.dialed) != tt.dials {
			t.Errorf("%s: title %q after connections to %v; want %q after %d", tt.name, got, p.dialed, tt.title, tt.dials)
		}
	}
}

// The host of a page that a device names is held against its address before anything is dialled.
func FuzzMovedTo(f *testing.F) {
	for _, seed := range []string{"/", "//10.40.1.10/", "http://10.40.1.9:99/", "http://[::ffff:10.40.1.9]/", "\x00", "http://10.40.1.9@10.40.1.10/"} {
		f.Add(seed)
	}
	here := &url.URL{Scheme: "http", Host: "10.40.1.9:80", Path: "/"}
	f.Fuzz(func(t *testing.T, location string) {
		if next := movedTo(here, location); next != nil && pageAddr(next).Addr() != netip.MustParseAddr("10.40.1.9") {
			t.Errorf("%q leads to %s", location, next)
		}
	})
}

func TestCertificateFacts(t *testing.T) {
	names := []string{"cairn.example", "store.example"}
	for range 20 {
		names = append(names, strings.Repeat("x", len(names))+".example")
	}
	config := &tls.Config{Certificates: []tls.Certificate{selfSigned(t, "cairn", names...)}}
	texts := hear(t, 443, func(conn net.Conn) {
		server := tls.Server(conn, config)
		request, err := http.ReadRequest(bufio.NewReader(server))
		if err == nil && request.URL.Path == "/" {
			_, _ = io.WriteString(server, "HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n")
		}
	})
	for _, want := range []string{"tls.version=TLS 1.3", "tls.subject=cairn", "tls.issuer=cairn", "tls.from=2024-01-01T00:00:00Z", "tls.until=2034-01-01T00:00:00Z", "tls.name=store.example", "http.status=200"} {
		if !slices.Contains(texts, want) {
			t.Errorf("%q is not among %v", want, texts)
		}
	}
	kept := slices.DeleteFunc(texts, func(text string) bool { return !strings.HasPrefix(text, "tls.name=") })
	if len(kept) != maxNames {
		t.Errorf("%d names of %d are kept, want %d", len(kept), len(names), maxNames)
	}
}

// selfSigned makes a certificate of that subject and names.
func selfSigned(t *testing.T, subject string, names ...string) tls.Certificate {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: subject}, DNSNames: names,
		NotBefore: time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC), NotAfter: time.Date(2034, 1, 1, 0, 0, 0, 0, time.UTC),
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		t.Fatal(err)
	}
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
}
