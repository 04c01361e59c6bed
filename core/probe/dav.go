package probe

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keyDAVClass  = "dav.class"
	keyDAVAnswer = "dav.answer"
)

// davFacts are part of HTTP: files that a web server gives out by WebDAV.
var davFacts = []evidence.Fact{
	{Source: evidence.SourceHTTP, Key: keyDAVClass, Says: "what of WebDAV it understands", Standard: "RFC 4918, 10.1", Example: "1, 2"},
	{Source: evidence.SourceHTTP, Key: keyDAVAnswer, Says: "whether it lets anybody see what there is: `open`, or `sign-in` where it wants to know who asks", Standard: "RFC 4918, 9.1", Example: "sign-in"},
}

// davPorts are the ports at which it is looked for.
var davPorts = []uint16{80, 443, 5005, 5006, 8080, 8443}

// davQuestion asks what the start page itself is, and for nothing beneath it (RFC 4918, 9.1 and 10.2).
const davQuestion = `<?xml version="1.0" encoding="utf-8"?><propfind xmlns="DAV:"><prop><resourcetype/></prop></propfind>`

// askDAV asks a web server whether it gives out files by WebDAV, and to whom. It reads, and changes nothing.
func askDAV(ctx context.Context, page *url.URL, f *found) {
	if !f.thorough || !slices.Contains(davPorts, pageAddr(page).Port()) || f.off("webdav") || evidence.First(f.items, evidence.KeyHTTPStatus) == "" {
		return
	}
	conn, err := openPage(ctx, f, page)
	if err != nil {
		return
	}
	defer conn.Close()
	defer deadline(ctx, conn)()
	_, err = fmt.Fprintf(conn, "PROPFIND %s HTTP/1.1\r\nHost: %s\r\nUser-Agent: airdrift\r\nDepth: 0\r\nContent-Type: application/xml\r\nContent-Length: %d\r\nConnection: close\r\n\r\n%s",
		page.RequestURI(), page.Host, len(davQuestion), davQuestion)
	if err != nil {
		return
	}
	readDAV(conn, f)
}

// readDAV reads the answer: its head says all that is looked at.
func readDAV(r io.Reader, f *found) {
	resp, err := http.ReadResponse(bufio.NewReader(io.LimitReader(r, maxAnswer)), nil)
	if err != nil {
		return
	}
	resp.Body.Close()
	class := resp.Header.Get("DAV")
	f.add(evidence.SourceHTTP, keyDAVClass, []byte(class))
	switch {
	case resp.StatusCode == http.StatusMultiStatus:
		f.add(evidence.SourceHTTP, keyDAVAnswer, []byte("open"))
	case class != "" && resp.StatusCode == http.StatusUnauthorized:
		f.add(evidence.SourceHTTP, keyDAVAnswer, []byte("sign-in"))
	}
}
