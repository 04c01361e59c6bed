package service

import (
	"context"
	"net/http"
	"net/netip"
	"sync"
	"time"

	"golang.org/x/time/rate"
)

// Bounds of how often passwords and codes are tried.
const (
	// maxOrigins bounds the origins and users that are counted apart.
	maxOrigins = 10_000
	// hashingAtOnce bounds the passwords that are compared at the same time, each of which costs a core some 60 ms.
	hashingAtOnce = 2
	// knownFor is for how long an origin is known from which a user has signed in.
	knownFor = 30 * 24 * time.Hour
)

var (
	perOrigin  = bucket{rate.Every(2 * time.Second), 5}   // tries from one origin
	perUser    = bucket{rate.Every(10 * time.Second), 20} // failures of one user, from wherever
	allOrigins = bucket{20, 100}                          // tries of all together
)

// bucket is how fast and how many at once.
type bucket struct {
	limit rate.Limit
	burst int
}

// tries bounds how often passwords are tried: from each origin, for each user, and all together. Somebody who is tried by
// strangers, and everybody while strangers try all they can, still signs in from where he has signed in before, so that nobody
// can keep others out.
type tries struct {
	hashing chan struct{} // has a place for each password that may be compared

	mu      sync.Mutex // guards all below
	origins limiters
	users   limiters
	all     *rate.Limiter
	known   map[knownOrigin]time.Time // until when
}

type knownOrigin struct {
	user   string
	origin string
}

// limiters are buckets by name. Of those that are full again nothing need be remembered.
type limiters struct {
	by    map[string]*rate.Limiter
	swept time.Time // when full ones were last dropped
}

func (l *limiters) of(name string, b bucket, now time.Time) *rate.Limiter {
	if l.by == nil {
		l.by = map[string]*rate.Limiter{}
	}
	if found := l.by[name]; found != nil {
		return found
	}
	if len(l.by) >= maxOrigins && now.Sub(l.swept) >= time.Second {
		l.swept = now
		for other, limiter := range l.by {
			if limiter.TokensAt(now) >= float64(b.burst) {
				delete(l.by, other)
			}
		}
	}
	if len(l.by) >= maxOrigins { // under attack from everywhere: one that is not remembered has but one try
		return rate.NewLimiter(0, 1)
	}
	l.by[name] = rate.NewLimiter(b.limit, b.burst)
	return l.by[name]
}

// network gives what counts as one origin: an IPv4 address, or the /64 of an IPv6 address, of which one device has as many as
// it likes (RFC 4291, 2.5.1).
func network(origin string) string {
	a, err := netip.ParseAddr(origin)
	if err != nil || a.Unmap().Is4() {
		return origin
	}
	prefix, _ := a.WithZone("").Prefix(64) // never fails: the length fits the address
	return prefix.String()
}

var errTooMany = refuse(http.StatusTooManyRequests, "too many tries: wait a few seconds")

// allow says whether a password of a user may be tried from an origin now.
func (t *tries) allow(origin, user string, now time.Time) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	from := network(origin)
	if t.all == nil {
		t.all = rate.NewLimiter(allOrigins.limit, allOrigins.burst)
	}
	if !t.origins.of(from, perOrigin, now).AllowN(now, 1) {
		return false
	}
	if until, known := t.known[knownOrigin{user, from}]; known && now.Before(until) {
		return true
	}
	return t.users.of(user, perUser, now).TokensAt(now) >= 1 && t.all.AllowN(now, 1)
}

// failed counts a failure against a user.
func (t *tries) failed(user string, now time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.users.of(user, perUser, now).AllowN(now, 1)
}

// succeeded remembers from where a user has signed in, and drops what was tried from there: several people may share an
// address, and each user's failures are counted apart.
func (t *tries) succeeded(origin, user string, now time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	delete(t.origins.by, network(origin))
	if t.known == nil {
		t.known = map[knownOrigin]time.Time{}
	}
	if len(t.known) >= maxOrigins {
		for other, until := range t.known {
			if now.After(until) {
				delete(t.known, other)
			}
		}
	}
	if len(t.known) < maxOrigins {
		t.known[knownOrigin{user, network(origin)}] = now.Add(knownFor)
	}
}

// hash compares or makes a hash once there is room for it.
func (t *tries) hash(ctx context.Context, work func() error) error {
	select {
	case t.hashing <- struct{}{}:
		defer func() { <-t.hashing }()
		return work()
	case <-ctx.Done():
		return ctx.Err()
	}
}
