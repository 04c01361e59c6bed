package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/bcrypt"
	"golang.org/x/time/rate"

	"airdrift/store"
)

const (
	cookieName  = "airdrift_session"
	sessionLife = 12 * time.Hour
	minPassword = 10 // characters
	// firstUser is who there is when a service starts for the first time, and whom the local command line acts for.
	firstUser = "administrator"
)

// Role is what somebody may do; each may do what those before it may.
type Role string

// The roles there are.
const (
	Look       Role = "look"       // read everything but users and the audit log
	Sweep      Role = "sweep"      // sweep, write notes, keep the register
	Administer Role = "administer" // keep sites, fences, users
)

// roles are all there are, each covering those before it.
var roles = []Role{Look, Sweep, Administer}

// may reports whether a role covers another. One that does not exist covers none and is covered by none.
func (r Role) may(needed Role) bool {
	wanted := slices.Index(roles, needed)
	return wanted >= 0 && slices.Index(roles, r) >= wanted
}

// person is who makes a request.
type person struct {
	name string
	role Role
	by   string // token or password
}

// auth says who may speak to the service: the holder of a token, or who has signed in with a password.
type auth struct {
	store *store.Store
	local [sha256.Size]byte // of the local command line's token, as only it is compared
	tries tries             // of passwords
	dummy []byte            // hash to compare with where there is no such user, so that the answer takes as long

	mu       sync.Mutex // guards sessions
	sessions map[[sha256.Size]byte]session
}

type session struct {
	user string
	end  time.Time
}

func newAuth(st *store.Store, token string) (*auth, error) {
	dummy, err := bcrypt.GenerateFromPassword([]byte(NewSecret()), bcrypt.DefaultCost)
	return &auth{
		store: st, local: sha256.Sum256([]byte(token)), dummy: dummy,
		sessions: map[[sha256.Size]byte]session{},
	}, err
}

// NewSecret makes a random text that nobody guesses: 160 bits.
func NewSecret() string {
	b := make([]byte, 20)
	_, _ = rand.Read(b) // never fails (crypto/rand)
	return hex.EncodeToString(b)
}

// hashPassword checks a new password, of at least 10 characters and at most 72 bytes, and gives what is kept of it.
func hashPassword(password string) (string, error) {
	if len([]rune(password)) < minPassword {
		return "", refuse(http.StatusUnprocessableEntity, "the password is too short: want at least %d characters", minPassword)
	}
	hash, err := bcrypt.GenerateFromPassword([]byte(password), bcrypt.DefaultCost)
	if errors.Is(err, bcrypt.ErrPasswordTooLong) {
		return "", refuse(http.StatusUnprocessableEntity, "the password is too long: want at most 72 bytes")
	}
	if err != nil {
		return "", fmt.Errorf("password: %w", err)
	}
	return string(hash), nil
}

// tries bounds how often passwords are tried: each address has its own count, so that nobody can keep others out, and what
// many addresses do together is bounded as well.
type tries struct {
	mu  sync.Mutex // guards both
	by  map[string]*rate.Limiter
	all *rate.Limiter
}

// maxOrigins bounds the addresses whose tries are counted apart.
const maxOrigins = 10_000

func (t *tries) allow(origin string) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.by == nil || len(t.by) >= maxOrigins {
		t.by = map[string]*rate.Limiter{}
	}
	if t.all == nil {
		t.all = rate.NewLimiter(rate.Limit(20), 100)
	}
	if t.by[origin] == nil {
		t.by[origin] = rate.NewLimiter(rate.Every(2*time.Second), 5)
	}
	return t.by[origin].Allow() && t.all.Allow()
}

// signIn opens a session for who knows a user's password; origin is the address of who tries.
func (a *auth) signIn(ctx context.Context, origin, name, password string) (person, string, error) {
	if !a.tries.allow(origin) {
		return person{}, "", refuse(http.StatusTooManyRequests, "too many tries: wait a few seconds")
	}
	user, err := a.store.User(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		_ = bcrypt.CompareHashAndPassword(a.dummy, []byte(password)) // takes as long as for a user that is there
		return person{}, "", errWrongPassword
	}
	if err != nil {
		return person{}, "", err
	}
	if bcrypt.CompareHashAndPassword([]byte(user.Hash), []byte(password)) != nil {
		return person{}, "", errWrongPassword
	}
	secret := NewSecret()
	a.mu.Lock()
	defer a.mu.Unlock()
	for key, s := range a.sessions {
		if time.Now().After(s.end) {
			delete(a.sessions, key)
		}
	}
	a.sessions[sha256.Sum256([]byte(secret))] = session{user.Name, time.Now().Add(sessionLife)}
	return person{user.Name, Role(user.Role), "password"}, secret, nil
}

var errWrongPassword = refuse(http.StatusUnauthorized, "the name or the password is not right")

func (a *auth) signOut(secret string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	delete(a.sessions, sha256.Sum256([]byte(secret)))
}

// endSessions signs a user out everywhere, as after a change of the password or the role.
func (a *auth) endSessions(user string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for key, s := range a.sessions {
		if s.user == user {
			delete(a.sessions, key)
		}
	}
}

// who tells who makes a request; ok is false where nobody is signed in. expired says that somebody was.
func (a *auth) who(ctx context.Context, authorization, cookie string) (p person, ok, expired bool, err error) {
	if token, given := strings.CutPrefix(authorization, "Bearer "); given {
		p, err := a.whoseToken(ctx, token)
		return p, p.name != "", false, err
	}
	if cookie == "" {
		return person{}, false, false, nil
	}
	a.mu.Lock()
	s, known := a.sessions[sha256.Sum256([]byte(cookie))]
	a.mu.Unlock()
	if !known || time.Now().After(s.end) {
		return person{}, false, true, nil
	}
	user, err := a.store.User(ctx, s.user)
	if errors.Is(err, store.ErrNotFound) {
		return person{}, false, true, nil
	}
	return person{user.Name, Role(user.Role), "password"}, err == nil, false, err
}

func (a *auth) whoseToken(ctx context.Context, token string) (person, error) {
	hash := sha256.Sum256([]byte(token))
	if subtle.ConstantTimeCompare(hash[:], a.local[:]) == 1 {
		return person{firstUser, Administer, "token"}, nil
	}
	user, err := a.store.UserOfToken(ctx, hash)
	if errors.Is(err, store.ErrNotFound) {
		return person{}, nil
	}
	return person{user.Name, Role(user.Role), "token"}, err
}
