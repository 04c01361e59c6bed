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
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"golang.org/x/crypto/bcrypt"
	"golang.org/x/time/rate"

	"airdrift/api"
	"airdrift/store"
)

const (
	cookieName      = "airdrift_session"
	sessionLife     = 12 * time.Hour
	passwordSetting = "console.password"
	minPassword     = 10 // characters
)

// auth says who may speak to the service: the holder of the token, or who has signed in with the password.
type auth struct {
	store *store.Store
	token [sha256.Size]byte // of the token, as only it is compared
	tries *rate.Limiter     // of passwords, for all who try together

	mu       sync.Mutex // guards sessions
	sessions map[[sha256.Size]byte]time.Time
}

func newAuth(st *store.Store, token string) *auth {
	return &auth{
		store: st, token: sha256.Sum256([]byte(token)), tries: rate.NewLimiter(rate.Every(2*time.Second), 5),
		sessions: map[[sha256.Size]byte]time.Time{},
	}
}

// NewSecret makes a random text that nobody guesses: 160 bits.
func NewSecret() string {
	b := make([]byte, 20)
	_, _ = rand.Read(b) // never fails (crypto/rand)
	return hex.EncodeToString(b)
}

// SetPassword sets the console's password, of at least 10 characters.
func SetPassword(ctx context.Context, st *store.Store, password string) error {
	if len([]rune(password)) < minPassword {
		return refuse(http.StatusUnprocessableEntity, "the password is too short: want at least %d characters", minPassword)
	}
	hash, err := bcrypt.GenerateFromPassword([]byte(password), bcrypt.DefaultCost)
	if errors.Is(err, bcrypt.ErrPasswordTooLong) {
		return refuse(http.StatusUnprocessableEntity, "the password is too long: want at most 72 bytes")
	}
	if err != nil {
		return fmt.Errorf("password: %w", err)
	}
	return st.SetSetting(ctx, passwordSetting, string(hash))
}

// signIn opens a session for who knows the password.
func (a *auth) signIn(ctx context.Context, password string) (cookie *http.Cookie, err error) {
	if !a.tries.Allow() {
		return nil, refuse(http.StatusTooManyRequests, "too many tries: wait a few seconds")
	}
	hash, err := a.store.Setting(ctx, passwordSetting)
	if err != nil {
		return nil, err
	}
	if bcrypt.CompareHashAndPassword([]byte(hash), []byte(password)) != nil {
		return nil, refuse(http.StatusUnauthorized, "the password is not right")
	}
	secret := NewSecret()
	a.mu.Lock()
	defer a.mu.Unlock()
	for key, end := range a.sessions {
		if time.Now().After(end) {
			delete(a.sessions, key)
		}
	}
	a.sessions[sha256.Sum256([]byte(secret))] = time.Now().Add(sessionLife)
	return sessionCookie(secret, int(sessionLife.Seconds())), nil
}

func sessionCookie(value string, seconds int) *http.Cookie {
	return &http.Cookie{Name: cookieName, Value: value, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode, MaxAge: seconds}
}

func (a *auth) signOut(secret string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	delete(a.sessions, sha256.Sum256([]byte(secret)))
}

// who tells by what a request is permitted: "token", "password", or "" where it is not.
func (a *auth) who(authorization, session string) string {
	if token, ok := strings.CutPrefix(authorization, "Bearer "); ok {
		given := sha256.Sum256([]byte(token))
		if subtle.ConstantTimeCompare(given[:], a.token[:]) == 1 {
			return "token"
		}
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if end, ok := a.sessions[sha256.Sum256([]byte(session))]; ok && time.Now().Before(end) {
		return "password"
	}
	return ""
}

type whoKey struct{}

// open marks operations that need no sign-in.
const openOperation = "open"

// guard lets nobody past who is not signed in.
func (a *auth) guard(humaAPI huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		session := ""
		if cookie, err := huma.ReadCookie(ctx, cookieName); err == nil {
			session = cookie.Value
		}
		who := a.who(ctx.Header("Authorization"), session)
		if who == "" && ctx.Operation().Metadata[openOperation] != true {
			_ = huma.WriteErr(humaAPI, ctx, http.StatusUnauthorized, "not signed in: the console asks for the password, and the command line sends the token from the service's data directory")
			return
		}
		next(huma.WithValue(ctx, whoKey{}, who))
	}
}

type sessionOutput struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      api.Session
}

func (s *Service) registerSession(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "sign-in", Method: http.MethodPost, Path: "/api/v1/session", Summary: "Sign in with the password",
		Metadata: map[string]any{openOperation: true}, Tags: []string{"session"},
	}, func(ctx context.Context, in *struct{ Body api.Password }) (*sessionOutput, error) {
		cookie, err := s.auth.signIn(ctx, in.Body.Password)
		if err != nil {
			return nil, problem(ctx, err)
		}
		return &sessionOutput{*cookie, api.Session{By: "password"}}, nil
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "get-session", Method: http.MethodGet, Path: "/api/v1/session", Summary: "Who is signed in", Tags: []string{"session"},
	}, func(ctx context.Context, _ *struct{}) (*struct{ Body api.Session }, error) {
		who, _ := ctx.Value(whoKey{}).(string)
		return &struct{ Body api.Session }{api.Session{By: who}}, nil
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "sign-out", Method: http.MethodDelete, Path: "/api/v1/session", Summary: "Sign out", Tags: []string{"session"},
		DefaultStatus: http.StatusNoContent,
	}, func(_ context.Context, in *struct {
		Session string `cookie:"airdrift_session"`
	}) (*struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
	}, error) {
		s.auth.signOut(in.Session)
		return &struct {
			SetCookie http.Cookie `header:"Set-Cookie"`
		}{*sessionCookie("", -1)}, nil
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "set-password", Method: http.MethodPut, Path: "/api/v1/password", Summary: "Set the console's password",
		DefaultStatus: http.StatusNoContent, Tags: []string{"session"},
	}, func(ctx context.Context, in *struct{ Body api.Password }) (*struct{}, error) {
		return nil, problem(ctx, SetPassword(ctx, s.store, in.Body.Password))
	})
}
