package service

import (
	"bytes"
	"errors"
	"io"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/chi/v5/middleware"
)

// policy keeps the console from being framed, and its pages from running or loading anything from elsewhere. Styles are written
// into the page by the library that the console is built with; scripts never are.
const policy = "default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; connect-src 'self'; font-src 'self'; manifest-src 'self'; " +
	"frame-ancestors 'none'; base-uri 'none'; form-action 'self'; object-src 'none'"

// securityHeaders tells browsers what they may do with the answers.
func (s *Service) securityHeaders(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Content-Security-Policy", policy)
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "same-origin")
		h.Set("Cross-Origin-Opener-Policy", "same-origin")
		h.Set("Cross-Origin-Resource-Policy", "same-origin")
		h.Set("Permissions-Policy", "camera=(), geolocation=(), microphone=()")
		if s.secure {
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
		if strings.HasPrefix(r.URL.Path, "/api/") || r.URL.Path == "/healthz" {
			h.Set("Cache-Control", "no-store")
		}
		next.ServeHTTP(w, r)
	})
}

// ownHost refuses requests in the clear that name a host by anything but an address: a page from elsewhere whose name was made to
// lead here (DNS rebinding) would be of the same origin as the console. By TLS the certificate stands in the way, and behind a
// proxy its name is the proxy's business.
func (s *Service) ownHost(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if _, local := r.Context().Value(localKey{}).(bool); !local && !s.secure && len(s.proxies) == 0 && !isLocalHost(r.Host) {
			http.Error(w, "this service is reached by its address, such as 127.0.0.1, or as localhost", http.StatusMisdirectedRequest)
			return
		}
		next.ServeHTTP(w, r)
	})
}

func isLocalHost(host string) bool {
	if at, err := netip.ParseAddrPort(host); err == nil {
		return at.IsValid()
	}
	name, _, _ := strings.Cut(host, ":")
	if strings.EqualFold(name, "localhost") {
		return true
	}
	_, err := netip.ParseAddr(strings.Trim(host, "[]"))
	return err == nil
}

// answerInTime bounds how long an answer may take altogether.
func answerInTime(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_ = http.NewResponseController(w).SetWriteDeadline(time.Now().Add(answerWait)) // a recorder in a test has none
		next.ServeHTTP(w, r)
	})
}

// clients count the requests of each client that are being served.
type clients struct {
	mu sync.Mutex // guards by
	by map[string]int
}

// share lets each client have at most so many requests served at once.
func (c *clients) share(most int) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			client := network(originFrom(r.RemoteAddr))
			if from, ok := clientAddr(r.Context()); ok {
				client = network(from)
			}
			if !c.enter(client, most) {
				w.Header().Set("Retry-After", "1")
				http.Error(w, "too many requests of yours are being served: wait for their answers", http.StatusTooManyRequests)
				return
			}
			defer c.leave(client)
			next.ServeHTTP(w, r)
		})
	}
}

const (
	// maxShort is the longest request that is read before it counts as one that is being served, in bytes.
	maxShort = 64 << 10
	// shortWait is how long it may take to come in.
	shortWait = 10 * time.Second
)

// isStream tells requests that are answered for as long as something goes on: they have places of their own.
func isStream(r *http.Request) bool {
	return r.Method == http.MethodGet && strings.HasSuffix(r.URL.Path, "/events")
}

// throttle lets so many requests be served at once, and so many streams beside them.
func throttle(next http.Handler) http.Handler {
	requests, streams := middleware.Throttle(maxRequests)(next), middleware.Throttle(maxStreams)(next)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if isStream(r) {
			streams.ServeHTTP(w, r)
			return
		}
		requests.ServeHTTP(w, r)
	})
}

// admit lets each client have so many requests served at once. One that has not come in whole is not served yet: who sends slowly takes
// no place from others. Long ones are too large to be held until they are whole, and have places of their own.
func (s *Service) admit(next http.Handler) http.Handler {
	watched := s.streams.share(maxStreamsOfClient)(next)
	served, uploads := s.clients.share(maxOfClient)(next), s.uploads.share(maxUploadsOfClient)(next)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		deadline := http.NewResponseController(w)
		switch {
		case isStream(r):
			watched.ServeHTTP(w, r)
		case r.ContentLength == 0:
			served.ServeHTTP(w, r)
		case r.ContentLength < 0 || r.ContentLength > maxShort:
			r.Body = &timedBody{r.Body, deadline}
			uploads.ServeHTTP(w, r)
		default:
			_ = deadline.SetReadDeadline(time.Now().Add(shortWait)) // a recorder in a test has none
			body, err := io.ReadAll(r.Body)
			_ = deadline.SetReadDeadline(time.Time{})
			if err != nil {
				http.Error(w, "the request did not come in whole within 10 s", http.StatusRequestTimeout)
				return
			}
			r.Body = &timedBody{io.NopCloser(bytes.NewReader(body)), deadline}
			served.ServeHTTP(w, r)
		}
	})
}

// timedBody is the body of a request that is read within a deadline. Once it is read the deadline is lifted: it would pass while the request is carried out,
// which the server takes for the client's having gone away, and breaks off what takes longer.
type timedBody struct {
	io.ReadCloser
	deadline *http.ResponseController
}

func (b *timedBody) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if errors.Is(err, io.EOF) {
		_ = b.deadline.SetReadDeadline(time.Time{}) // a recorder in a test has none
	}
	return n, err
}

func (c *clients) enter(client string, most int) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.by == nil {
		c.by = map[string]int{}
	}
	if c.by[client] >= most {
		return false
	}
	c.by[client]++
	return true
}

func (c *clients) leave(client string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.by[client]--; c.by[client] == 0 {
		delete(c.by, client)
	}
}

func prefixTextList(prefixes []netip.Prefix) []string {
	texts := make([]string, len(prefixes))
	for i, p := range prefixes {
		texts[i] = p.String()
	}
	return texts
}
