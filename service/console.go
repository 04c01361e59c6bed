package service

import (
	"io/fs"
	"net/http"
	"path"
	"strings"
)

// consoleHandler serves the built console. Files with a hash in their name never change and may be kept for long;
// paths of pages get index.html, so that a link into the console works; missing files are missing.
func consoleHandler(files fs.FS) http.Handler {
	server := http.FileServerFS(files)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
		switch {
		case strings.HasPrefix(name, "api/"):
			http.NotFound(w, r)
		case strings.HasPrefix(name, "assets/"):
			w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			server.ServeHTTP(w, r)
		case path.Ext(name) != "" && name != "index.html":
			server.ServeHTTP(w, r)
		default:
			w.Header().Set("Cache-Control", "no-cache")
			http.ServeFileFS(w, r, files, "index.html")
		}
	})
}
