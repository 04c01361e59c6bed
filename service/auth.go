package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/bcrypt"

	"airdrift/store"
	"airdrift/vault"
)

// firstUser is who there is when a service starts for the first time, and whom the local command line acts for.
const firstUser = "administrator"

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

// The ways in which somebody may be known.
const (
	byPassword = "password"
	byToken    = "token"
	byLocal    = "local" // the system says who it is, at the socket in the data directory
)

// person is who makes a request.
type person struct {
	id   uint64 // 0 for the local command line where nobody has the first user's name any more
	name string
	role Role
	by   string

	session sessionKey // of who is here by password
	// limited says that a second factor is to be set up before anything else.
	limited bool
}

// auth says who may speak to the service: the local command line, the holder of a token, or who has signed in with a password.
type auth struct {
	store    *store.Store
	vault    *vault.Vault
	sessions sessions
	tries    tries // of passwords and codes
	dummy    []byte
	second   bool // everybody who signs in by password needs a second factor
	now      func() time.Time
}

func newAuth(config Config) (*auth, error) {
	// What a password is compared with where there is no such user, so that the answer takes as long.
	dummy, err := bcrypt.GenerateFromPassword([]byte(NewSecret()), bcrypt.DefaultCost)
	return &auth{
		store: config.Store, vault: config.Vault, dummy: dummy, second: config.SecondFactor, now: time.Now,
		sessions: sessions{idle: config.Idle}, tries: tries{hashing: make(chan struct{}, hashingAtOnce)},
	}, err
}

// NewSecret makes a random text that nobody guesses: 160 bits.
func NewSecret() string {
	b := make([]byte, 20)
	_, _ = rand.Read(b) // never fails (crypto/rand)
	return hex.EncodeToString(b)
}

// claim is what a request shows of who makes it.
type claim struct {
	local         bool   // it came by the socket in the data directory, from a user of this machine who may do everything
	authorization string // the header
	cookie        string // the session's
	unattended    bool   // nobody is there: it was made by a page that is left open
}

// who tells who makes a request; ok is false where nobody is signed in. expired says that somebody was.
func (a *auth) who(ctx context.Context, c claim) (p person, ok, expired bool, err error) {
	if c.local {
		return a.localPerson(ctx), true, false, nil
	}
	if token, given := strings.CutPrefix(c.authorization, "Bearer "); given {
		p, err := a.whoseToken(ctx, token)
		return p, p.name != "", false, err
	}
	if c.cookie == "" {
		return person{}, false, false, nil
	}
	s, known := a.sessions.use(keyOf(c.cookie), a.now(), !c.unattended)
	if !known {
		return person{}, false, true, nil
	}
	p, err = a.signedIn(ctx, s.user, keyOf(c.cookie))
	if errors.Is(err, store.ErrNotFound) {
		return person{}, false, true, nil
	}
	return p, err == nil, false, err
}

// signedIn gives whom a session is of, as he is now.
func (a *auth) signedIn(ctx context.Context, id uint64, session sessionKey) (person, error) {
	user, err := a.store.UserByID(ctx, id)
	if err != nil {
		return person{}, err
	}
	return person{id: user.ID, name: user.Name, role: Role(user.Role), by: byPassword, session: session, limited: a.second && len(user.SecondFactor) == 0}, nil
}

// localPerson gives whom the local command line acts for. It is let in without the database, too: that is when it is needed most.
func (a *auth) localPerson(ctx context.Context) person {
	user, _ := a.store.User(ctx, firstUser) // what needs the number fails without the database in any case
	return person{id: user.ID, name: firstUser, role: Administer, by: byLocal}
}

func (a *auth) whoseToken(ctx context.Context, token string) (person, error) {
	user, err := a.store.UserOfToken(ctx, sha256.Sum256([]byte(token)), a.now().UTC())
	if errors.Is(err, store.ErrNotFound) {
		return person{}, nil
	}
	return person{id: user.ID, name: user.Name, role: Role(user.Role), by: byToken}, err
}

// still reports whether who opened a stream may go on listening: the session or token is still good, and so is the role.
func (a *auth) still(ctx context.Context, c claim, needed Role) bool {
	c.unattended = true
	p, ok, _, err := a.who(ctx, c)
	return err != nil || ok && p.role.may(needed) // a database that is away ends no stream
}

// dropAccess ends what somebody has opened with a password or token: sessions, but for one, and where asked for tokens.
func (a *auth) dropAccess(ctx context.Context, user uint64, but sessionKey, tokens bool) error {
	a.sessions.end(user, but)
	if !tokens {
		return nil
	}
	return a.store.DeleteTokens(ctx, user)
}
