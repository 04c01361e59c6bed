package service

import (
	"context"
	"crypto/sha256"
	"errors"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"airdrift/api"
	"airdrift/store"
)

type sessionOutput struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      api.Session
}

func toSession(p person, secured bool) api.Session {
	session := api.Session{By: p.by, User: p.name, Role: string(p.role), May: []string{}, SecondFactor: secured, Limited: p.limited}
	for _, role := range roles {
		if p.role.may(role) {
			session.May = append(session.May, string(role))
		}
	}
	return session
}

// cookieName is the name of the session's cookie. By TLS it has the prefix that keeps other hosts and plain HTTP from setting it
// (RFC 6265bis, 4.1.3.2).
func (s *Service) cookieName() string {
	if s.secure {
		return "__Host-airdrift_session"
	}
	return "airdrift_session"
}

func (s *Service) sessionCookie(value string, seconds int) http.Cookie {
	return http.Cookie{
		Name: s.cookieName(), Value: value, Path: "/", HttpOnly: true, Secure: s.secure, SameSite: http.SameSiteStrictMode, MaxAge: seconds,
	}
}

func (s *Service) registerSession(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "sign-in", Method: http.MethodPost, Path: "/api/v1/session", Summary: "Sign in with a name and a password",
		Extensions: anybody, Tags: []string{"session"},
	}, s.signIn)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "get-session", Method: http.MethodGet, Path: "/api/v1/session", Summary: "Who is signed in", Tags: []string{"session"}, Extensions: beforeSecondFactor(Look),
	}, func(ctx context.Context, _ *struct{}) (*struct{ Body api.Session }, error) {
		p := personOf(ctx)
		user, err := s.store.User(ctx, p.name)
		if errors.Is(err, store.ErrNotFound) {
			err = nil // the local command line acts for a name that nobody has any more
		}
		return &struct{ Body api.Session }{toSession(p, len(user.SecondFactor) > 0)}, problem(ctx, err)
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "sign-out", Method: http.MethodDelete, Path: "/api/v1/session", Summary: "Sign out", Tags: []string{"session"},
		DefaultStatus: http.StatusNoContent, Extensions: beforeSecondFactor(Look),
	}, s.signOut)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "set-password", Method: http.MethodPut, Path: "/api/v1/password", Summary: "Set one's own password; all other sessions end",
		DefaultStatus: http.StatusNoContent, Tags: []string{"session"}, Extensions: needs(Look),
	}, s.setOwnPassword)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "get-access", Method: http.MethodGet, Path: "/api/v1/access", Summary: "One's own sessions and tokens", Tags: []string{"session"}, Extensions: needs(Look),
	}, func(ctx context.Context, _ *struct{}) (*struct{ Body api.Access }, error) {
		return s.accessOf(ctx, personOf(ctx).id)
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "revoke-access", Method: http.MethodDelete, Path: "/api/v1/access", Summary: "Delete all of one's own tokens, and end all sessions but this one", Tags: []string{"session"},
		DefaultStatus: http.StatusNoContent, Extensions: needs(Look),
	}, func(ctx context.Context, _ *struct{}) (*struct{}, error) {
		p := personOf(ctx)
		return nil, problem(ctx, s.auth.dropAccess(ctx, p.id, p.session, true))
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "list-tokens", Method: http.MethodGet, Path: "/api/v1/tokens", Summary: "One's own tokens for command lines on other machines", Tags: []string{"session"}, Extensions: needs(Look),
	}, s.listTokens)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "create-token", Method: http.MethodPost, Path: "/api/v1/tokens", Summary: "Make a token for a command line on another machine; it is told once",
		DefaultStatus: http.StatusCreated, Tags: []string{"session"}, Extensions: needs(Look),
	}, s.createToken)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "delete-token", Method: http.MethodDelete, Path: "/api/v1/tokens/{token}", Summary: "Delete one of one's own tokens",
		DefaultStatus: http.StatusNoContent, Tags: []string{"session"}, Extensions: needs(Look),
	}, s.deleteToken)
}

func (s *Service) registerUsers(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "list-users", Method: http.MethodGet, Path: "/api/v1/users", Summary: "All users", Tags: []string{"users"}, Extensions: needs(Administer),
	}, s.listUsers)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "create-user", Method: http.MethodPost, Path: "/api/v1/users", Summary: "Add a user",
		DefaultStatus: http.StatusCreated, Tags: []string{"users"}, Extensions: needs(Administer),
	}, s.createUser)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "set-role", Method: http.MethodPut, Path: "/api/v1/users/{user}/role", Summary: "Change what a user may do",
		DefaultStatus: http.StatusNoContent, Tags: []string{"users"}, Extensions: needs(Administer),
	}, func(ctx context.Context, in *struct {
		UserInput
		Body api.Role
	}) (*struct{}, error) {
		remark(ctx, "to %s", in.Body.Role)
		return nil, problem(ctx, s.changeUser(ctx, in.User, false, func(u *store.User) bool { u.Role = in.Body.Role; return true }))
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "reset-password", Method: http.MethodPut, Path: "/api/v1/users/{user}/password", Summary: "Give a user a new password; tokens are deleted and sessions end",
		DefaultStatus: http.StatusNoContent, Tags: []string{"users"}, Extensions: needs(Administer),
	}, func(ctx context.Context, in *struct {
		UserInput
		Body api.Password
	}) (*struct{}, error) {
		return nil, problem(ctx, s.resetPassword(ctx, in.User, in.Body.Password))
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "get-user-access", Method: http.MethodGet, Path: "/api/v1/users/{user}/access", Summary: "A user's sessions and tokens", Tags: []string{"users"}, Extensions: needs(Administer),
	}, func(ctx context.Context, in *UserInput) (*struct{ Body api.Access }, error) {
		user, err := s.store.User(ctx, UserName(in.User))
		if err != nil {
			return nil, problem(ctx, err)
		}
		return s.accessOf(ctx, user.ID)
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "revoke-user-access", Method: http.MethodDelete, Path: "/api/v1/users/{user}/access", Summary: "End a user's sessions and delete the tokens",
		DefaultStatus: http.StatusNoContent, Tags: []string{"users"}, Extensions: needs(Administer),
	}, func(ctx context.Context, in *UserInput) (*struct{}, error) {
		user, err := s.store.User(ctx, UserName(in.User))
		if err != nil {
			return nil, problem(ctx, err)
		}
		return nil, problem(ctx, s.auth.dropAccess(ctx, user.ID, sessionKey{}, true))
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "delete-user", Method: http.MethodDelete, Path: "/api/v1/users/{user}", Summary: "Delete a user, tokens and sessions included",
		DefaultStatus: http.StatusNoContent, Tags: []string{"users"}, Extensions: needs(Administer),
	}, func(ctx context.Context, in *UserInput) (*struct{}, error) {
		return nil, problem(ctx, s.changeUser(ctx, in.User, true, func(*store.User) bool { return false }))
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "list-audit", Method: http.MethodGet, Path: "/api/v1/audit", Summary: "Who did what, when and from where; the newest first", Tags: []string{"users"}, Extensions: needs(Administer),
	}, s.listAudit)
}

// UserInput names a user in the path.
type UserInput struct {
	User string `path:"user" maxLength:"100" doc:"Name of the user"`
}

func (s *Service) signIn(ctx context.Context, in *struct{ Body api.SignIn }) (*sessionOutput, error) {
	p, secret, err := s.auth.signIn(ctx, originOf(ctx), in.Body.User, in.Body.Password, in.Body.Code)
	s.auditSignIn(ctx, p, err)
	if err != nil {
		return nil, problem(ctx, err)
	}
	user, err := s.store.UserByID(ctx, p.id)
	return &sessionOutput{s.sessionCookie(secret, int(sessionLife.Seconds())), toSession(p, len(user.SecondFactor) > 0)}, problem(ctx, err)
}

func (s *Service) signOut(ctx context.Context, _ *struct{}) (*struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
}, error) {
	s.auth.sessions.drop(personOf(ctx).session)
	return &struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
	}{s.sessionCookie("", -1)}, nil
}

// setOwnPassword gives whoever asks a new password. The one there is has to be shown, but at the local command line, by which a
// password that was lost is set anew.
func (s *Service) setOwnPassword(ctx context.Context, in *struct{ Body api.OwnPassword }) (*struct{}, error) {
	p := personOf(ctx)
	if p.by != byLocal {
		if _, err := s.auth.confirm(ctx, p, originOf(ctx), in.Body.Present); err != nil {
			return nil, problem(ctx, err)
		}
	}
	if err := s.writePassword(ctx, p.name, in.Body.Password); err != nil {
		return nil, problem(ctx, err)
	}
	return nil, problem(ctx, s.auth.dropAccess(ctx, p.id, p.session, in.Body.RevokeTokens))
}

// resetPassword gives a user a new password. What was opened with the old one ends, tokens too: a reset is for those who may have
// lost control of it.
func (s *Service) resetPassword(ctx context.Context, name, password string) error {
	user, err := s.store.User(ctx, UserName(name))
	if err != nil {
		return err
	}
	if err := s.writePassword(ctx, user.Name, password); err != nil {
		return err
	}
	return s.auth.dropAccess(ctx, user.ID, sessionKey{}, true)
}

func (s *Service) writePassword(ctx context.Context, name, password string) error {
	hash, err := s.auth.hashPassword(ctx, name, password)
	if err != nil {
		return err
	}
	if _, err := s.store.ChangeUser(ctx, name, string(Administer), func(u *store.User) (bool, error) { u.Hash = hash; return true, nil }); err != nil {
		return err
	}
	if name == firstUser && s.passwordSet != nil {
		s.passwordSet()
	}
	return nil
}

// changeUser changes a user, whose sessions end.
func (s *Service) changeUser(ctx context.Context, name string, tokens bool, change func(*store.User) bool) error {
	before, err := s.store.ChangeUser(ctx, UserName(name), string(Administer), func(u *store.User) (bool, error) { return change(u), nil })
	if errors.Is(err, store.ErrLast) {
		return refuse(http.StatusConflict, "%s is the last administrator: make somebody else one first", name)
	}
	if err != nil {
		return err
	}
	return s.auth.dropAccess(ctx, before.ID, sessionKey{}, tokens)
}

func (s *Service) accessOf(ctx context.Context, user uint64) (*struct{ Body api.Access }, error) {
	tokens, err := s.store.Tokens(ctx, user)
	if err != nil {
		return nil, problem(ctx, err)
	}
	out := api.Access{Tokens: toTokens(tokens), Sessions: []api.OpenSignIn{}}
	for _, open := range s.auth.sessions.of(user, s.auth.now()) {
		out.Sessions = append(out.Sessions, api.OpenSignIn{Origin: open.origin, Began: open.began.UTC(), Used: open.used.UTC()})
	}
	return &struct{ Body api.Access }{out}, nil
}

func toTokens(tokens []store.Token) []api.Token {
	list := make([]api.Token, len(tokens))
	for i, t := range tokens {
		list[i] = api.Token{ID: t.ID, Label: t.Label, Created: t.CreatedAt, Expires: t.ExpiresAt}
		if t.LastUsedAt != nil {
			list[i].Used = *t.LastUsedAt
		}
	}
	return list
}

func (s *Service) listUsers(ctx context.Context, _ *struct{}) (*listOutput[api.User], error) {
	users, err := s.store.Users(ctx)
	if err != nil {
		return nil, problem(ctx, err)
	}
	list := make([]api.User, len(users))
	for i, u := range users {
		list[i] = api.User{Name: u.Name, Role: u.Role, Created: u.CreatedAt, SecondFactor: len(u.SecondFactor) > 0}
	}
	return listOf(list), nil
}

func (s *Service) createUser(ctx context.Context, in *struct{ Body api.NewUser }) (*struct{ Body api.User }, error) {
	remark(ctx, "%s, who may %s", in.Body.Name, in.Body.Role)
	name := UserName(in.Body.Name)
	hash, err := s.auth.hashPassword(ctx, name, in.Body.Password)
	if err != nil {
		return nil, problem(ctx, err)
	}
	user := store.User{Name: name, Role: in.Body.Role, Hash: hash, CreatedAt: time.Now().UTC()}
	if err := s.store.CreateUser(ctx, user); err != nil {
		return nil, problem(ctx, err)
	}
	return &struct{ Body api.User }{api.User{Name: user.Name, Role: user.Role, Created: user.CreatedAt}}, nil
}

func (s *Service) listTokens(ctx context.Context, _ *struct{}) (*listOutput[api.Token], error) {
	user, err := s.store.User(ctx, personOf(ctx).name)
	if err != nil {
		return nil, problem(ctx, err)
	}
	tokens, err := s.store.Tokens(ctx, user.ID)
	if err != nil {
		return nil, problem(ctx, err)
	}
	return listOf(toTokens(tokens)), nil
}

func (s *Service) createToken(ctx context.Context, in *struct{ Body api.NewToken }) (*struct{ Body api.Token }, error) {
	user, err := s.store.User(ctx, personOf(ctx).name)
	if err != nil {
		return nil, problem(ctx, err)
	}
	secret := NewSecret()
	hash := sha256.Sum256([]byte(secret))
	remark(ctx, "%s, for %d days", in.Body.Label, in.Body.Days)
	now := time.Now().UTC()
	token := store.Token{UserID: user.ID, Label: in.Body.Label, Hash: hash[:], CreatedAt: now, ExpiresAt: now.AddDate(0, 0, in.Body.Days)}
	if err := s.store.CreateToken(ctx, &token); err != nil {
		return nil, problem(ctx, err)
	}
	made := toTokens([]store.Token{token})[0]
	made.Secret = secret
	return &struct{ Body api.Token }{made}, nil
}

func (s *Service) deleteToken(ctx context.Context, in *struct {
	Token uint64 `path:"token" doc:"Number of the token"`
}) (*struct{}, error) {
	user, err := s.store.User(ctx, personOf(ctx).name)
	if err != nil {
		return nil, problem(ctx, err)
	}
	return nil, problem(ctx, s.store.DeleteToken(ctx, user.ID, in.Token))
}

func (s *Service) listAudit(ctx context.Context, in *struct {
	PageInput
}) (*listOutput[api.AuditLine], error) {
	var below uint64
	if _, err := in.mark(&below); err != nil {
		return nil, problem(ctx, err)
	}
	lines, err := s.store.Audit(ctx, below, in.Limit+1)
	if err != nil {
		return nil, problem(ctx, err)
	}
	return pageOf(lines, in.Limit, func(l store.AuditLine) api.AuditLine { return api.AuditLine(l) }, func(l store.AuditLine) any { return l.ID }), nil
}
