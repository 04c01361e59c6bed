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
	"regexp"
	"strconv"
	"strings"

	"golang.org/x/net/html"
	"golang.org/x/net/html/charset"

	"airdrift/core/evidence"
)

// talkHTTP asks for the start page (RFC 9110).
func talkHTTP(_ context.Context, conn net.Conn, addr netip.AddrPort, f *found) {
	// Some small servers know only HTTP/1.0 or close at once; 1.1 with "close" is understood by all that matter.
	_, err := fmt.Fprintf(conn, "GET / HTTP/1.1\r\nHost: %s\r\nUser-Agent: airdrift\r\nAccept: text/html, */*\r\nConnection: close\r\n\r\n", addr)
	if err != nil {
		return
	}
	readHTTP(conn, f)
}

// readHTTP reads one response, of which it believes no length beyond maxAnswer.
func readHTTP(r io.Reader, f *found) {
	resp, err := http.ReadResponse(bufio.NewReader(io.LimitReader(r, maxAnswer)), nil)
	if err != nil {
		return
	}
	defer resp.Body.Close()
	f.add(evidence.SourceHTTP, evidence.KeyHTTPStatus, []byte(strconv.Itoa(resp.StatusCode)))
	f.add(evidence.SourceHTTP, evidence.KeyHTTPServer, []byte(resp.Header.Get("Server")))
	f.add(evidence.SourceHTTP, evidence.KeyHTTPRealm, []byte(realm(resp.Header.Values("WWW-Authenticate"))))
	// A page that breaks off still has its title in what came.
	body, _ := io.ReadAll(io.LimitReader(resp.Body, maxAnswer))
	f.add(evidence.SourceHTTP, evidence.KeyHTTPTitle, []byte(pageTitle(body, resp.Header.Get("Content-Type"))))
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
