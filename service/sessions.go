package service

import (
	"crypto/sha256"
	"slices"
	"sync"
	"time"
)

const (
	sessionLife = 12 * time.Hour
	// DefaultIdle is after how long without use a session ends.
	DefaultIdle = 30 * time.Minute
	// maxSessions is how many sessions of one user are kept: the one that was used longest ago goes.
	maxSessions = 20
)

// sessionKey stands for a session's secret: what is in memory opens nothing.
type sessionKey [sha256.Size]byte

func keyOf(secret string) sessionKey { return sha256.Sum256([]byte(secret)) }

// session is somebody who has signed in with a password.
type session struct {
	user   uint64 // number, as names may be given again
	origin string
	began  time.Time
	used   time.Time
}

// sessions are all there are. They end with the service.
type sessions struct {
	idle time.Duration // 0 for DefaultIdle

	mu sync.Mutex // guards by
	by map[sessionKey]session
}

func (s *sessions) over(of session, now time.Time) bool {
	idle := s.idle
	if idle == 0 {
		idle = DefaultIdle
	}
	return now.Sub(of.began) > sessionLife || now.Sub(of.used) > idle
}

// begin opens a session and gives its secret.
func (s *sessions) begin(user uint64, origin string, now time.Time) string {
	secret := NewSecret()
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.by == nil {
		s.by = map[sessionKey]session{}
	}
	count, oldest, at := 0, sessionKey{}, time.Time{}
	for key, other := range s.by {
		switch {
		case s.over(other, now):
			delete(s.by, key)
		case other.user == user:
			if count++; count == 1 || other.used.Before(at) {
				oldest, at = key, other.used
			}
		}
	}
	if count >= maxSessions {
		delete(s.by, oldest)
	}
	s.by[keyOf(secret)] = session{user, origin, now, now}
	return secret
}

// use gives a session that is still good. attended says that somebody is there, so that it is good for longer.
func (s *sessions) use(key sessionKey, now time.Time, attended bool) (session, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	found, known := s.by[key]
	if !known || s.over(found, now) {
		delete(s.by, key)
		return session{}, false
	}
	if attended {
		found.used = now
		s.by[key] = found
	}
	return found, true
}

// drop ends one session.
func (s *sessions) drop(key sessionKey) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.by, key)
}

// end ends a user's sessions but for one.
func (s *sessions) end(user uint64, but sessionKey) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for key, other := range s.by {
		if other.user == user && key != but {
			delete(s.by, key)
		}
	}
}

// of gives a user's sessions, the newest first.
func (s *sessions) of(user uint64, now time.Time) []session {
	s.mu.Lock()
	defer s.mu.Unlock()
	var found []session
	for _, other := range s.by {
		if other.user == user && !s.over(other, now) {
			found = append(found, other)
		}
	}
	slices.SortFunc(found, func(a, b session) int { return b.began.Compare(a.began) })
	return found
}
