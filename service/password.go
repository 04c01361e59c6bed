package service

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/trustelem/zxcvbn"
	"golang.org/x/crypto/bcrypt"
	"golang.org/x/text/unicode/norm"

	"airdrift/store"
)

const (
	minPassword = 10 // characters
	// leastScore is how hard a password has to be to guess, of 0 to 4: below it are those in lists of common passwords, and
	// words with little done to them.
	leastScore = 2
)

// UserName gives the one form of a user's name: names that differ in case alone are the same everywhere.
func UserName(name string) string { return strings.ToLower(norm.NFKC.String(strings.TrimSpace(name))) }

// hashPassword checks a new password of a user, of at least 10 characters and at most 72 bytes and not one that is in common
// use, and gives what is kept of it.
func (a *auth) hashPassword(ctx context.Context, user, password string) (string, error) {
	if len([]rune(password)) < minPassword {
		return "", refuse(http.StatusUnprocessableEntity, "the password is too short: want at least %d characters", minPassword)
	}
	if len(password) > 72 {
		return "", refuse(http.StatusUnprocessableEntity, "the password is too long: want at most 72 bytes")
	}
	var hash []byte
	err := a.tries.hash(ctx, func() (err error) {
		if zxcvbn.PasswordStrength(password, []string{user, firstUser, "airdrift"}).Score < leastScore {
			return refuse(http.StatusUnprocessableEntity, "the password is one that is soon guessed, as it is in common use or made of little: choose several words that have nothing to do with each other")
		}
		hash, err = bcrypt.GenerateFromPassword([]byte(password), bcrypt.DefaultCost)
		return err
	})
	var refused *refusedError
	if err != nil && !errors.As(err, &refused) {
		err = fmt.Errorf("password: %w", err)
	}
	return string(hash), err
}

var errWrongPassword = refuse(http.StatusUnauthorized, "the name or the password is not right")

// check finds the user of a name and password, within the bounds of how often that is tried.
func (a *auth) check(ctx context.Context, origin, name, password string) (store.User, error) {
	if !a.tries.allow(origin, name, a.now()) {
		return store.User{}, errTooMany
	}
	user, err := a.store.User(ctx, name)
	hash := []byte(user.Hash)
	if errors.Is(err, store.ErrNotFound) {
		hash = a.dummy
	} else if err != nil {
		return store.User{}, err
	}
	same := false
	if err := a.tries.hash(ctx, func() error {
		same = bcrypt.CompareHashAndPassword(hash, []byte(password)) == nil
		return nil
	}); err != nil {
		return store.User{}, err
	}
	if !same || user.ID == 0 {
		a.tries.failed(name, a.now())
		return user, errWrongPassword
	}
	return user, nil
}

// signIn opens a session for who knows a user's password, and has the second factor where there is one; origin is the address
// of who tries. Who it was is given on failure too, where there is such a user.
func (a *auth) signIn(ctx context.Context, origin, name, password, code string) (person, string, error) {
	name = UserName(name)
	user, err := a.check(ctx, origin, name, password)
	if err == nil {
		err = a.secondFactor(ctx, user, code)
	}
	p := person{id: user.ID, name: user.Name, role: Role(user.Role), by: byPassword, limited: a.second && len(user.SecondFactor) == 0}
	if err != nil {
		return p, "", err
	}
	a.tries.succeeded(origin, name, a.now())
	secret := a.sessions.begin(user.ID, origin, a.now())
	p.session = keyOf(secret)
	return p, secret, nil
}

// confirm checks the password of who is signed in already, before something that a page left open must not do.
func (a *auth) confirm(ctx context.Context, p person, origin, password string) (store.User, error) {
	user, err := a.check(ctx, origin, p.name, password)
	switch {
	case err == nil:
		a.tries.succeeded(origin, p.name, a.now())
	case errors.Is(err, errWrongPassword):
		return user, refuse(http.StatusForbidden, "the present password is not right")
	}
	return user, err
}
