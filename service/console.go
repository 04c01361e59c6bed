package service

import (
	"bytes"
	"compress/gzip"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"regexp"
	"strings"
	"sync"
	"time"
)

// consoleHandler serves the built console. Files with a hash in their name never change and may be kept for long;
// paths of pages get index.html, so that a link into the console works; missing files are missing.
func consoleHandler(files fs.FS) http.Handler {
	server := &packedFiles{files: files}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
		switch {
		case strings.HasPrefix(name, "api/"):
			http.NotFound(w, r)
		case strings.HasPrefix(name, "assets/"):
			w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			server.serve(w, r, name)
		case path.Ext(name) != "" && name != "index.html":
			server.serve(w, r, name)
		default:
			w.Header().Set("Cache-Control", "no-cache")
			for _, answer := range wantedFirst("/" + name) {
				w.Header().Add("Link", "<"+answer+">; rel=preload; as=fetch; crossorigin")
			}
			server.serve(w, r, "index.html")
		}
	})
}

// sitePage is the path of a page of a site, and what comes behind the site in it.
var sitePage = regexp.MustCompile(`^/sites/([0-9]{1,20})(/.*)?$`)

// wantedFirst gives the answers of the API that a page of the console asks for before it draws anything. The browser is told of them with the page (a Link header,
// RFC 8288, with the relation preload of the HTML standard), so that they come while the code still does.
func wantedFirst(page string) []string {
	site := sitePage.FindStringSubmatch(page)
	switch {
	case site == nil:
		return nil
	case site[2] == "":
		return []string{"/api/v1/session", "/api/v1/sites", "/api/v1/sites/" + site[1] + "/overview"}
	default:
		return []string{"/api/v1/session", "/api/v1/sites"}
	}
}

// packedFiles serves files compressed where the browser takes that (RFC 9110, 8.4.1.3). Each is compressed once, when it is first asked for: there are as many
// as the console has, and they never change.
type packedFiles struct {
	files  fs.FS
	packed sync.Map // of []byte by name; empty where compressing spares nothing
}

// serve answers with a file.
func (p *packedFiles) serve(w http.ResponseWriter, r *http.Request, name string) {
	kind := mime.TypeByExtension(path.Ext(name))
	if !isText(kind) || r.Header.Get("Range") != "" {
		http.ServeFileFS(w, r, p.files, name)
		return
	}
	w.Header().Add("Vary", "Accept-Encoding")
	packed := p.pack(name)
	if len(packed) == 0 || !takesGzip(r) {
		http.ServeFileFS(w, r, p.files, name)
		return
	}
	w.Header().Set("Content-Type", kind)
	w.Header().Set("Content-Encoding", "gzip")
	http.ServeContent(w, r, name, time.Time{}, bytes.NewReader(packed))
}

// pack gives a file compressed; nothing where there is none, or where that spares nothing.
func (p *packedFiles) pack(name string) []byte {
	if packed, done := p.packed.Load(name); done {
		return packed.([]byte)
	}
	text, err := fs.ReadFile(p.files, name)
	if err != nil {
		return nil
	}
	var out bytes.Buffer
	zip, err := gzip.NewWriterLevel(&out, gzip.BestCompression)
	if err == nil {
		_, err = zip.Write(text)
	}
	if err != nil || zip.Close() != nil || out.Len() >= len(text) {
		out.Reset()
	}
	p.packed.Store(name, out.Bytes())
	return out.Bytes()
}

// isText reports whether files of a type are texts, which pictures and fonts are not.
func isText(kind string) bool {
	for _, text := range []string{"text/", "application/javascript", "application/json", "image/svg+xml"} {
		if strings.HasPrefix(kind, text) {
			return true
		}
	}
	return false
}

// takesGzip reports whether a browser takes the coding, which it may refuse by a weight of 0 (RFC 9110, 12.5.3).
func takesGzip(r *http.Request) bool {
	for part := range strings.SplitSeq(r.Header.Get("Accept-Encoding"), ",") {
		coding, weight, _ := strings.Cut(strings.ReplaceAll(part, " ", ""), ";q=")
		if coding == "gzip" {
			return strings.Trim(weight, "0.") != "" || weight == ""
		}
	}
	return false
}
