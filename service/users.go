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

func toSession(p person) api.Session {
	session := api.Session{By: p.by, User: p.name, Role: string(p.role), May: []string{}}
	for _, role := range roles {
		if p.role.may(role) {
			session.May = append(session.May, string(role))
		}
	}
	return session
}

func (s *Service) sessionCookie(value string, seconds int) http.Cookie {
	return http.Cookie{
		Name: cookieName, Value: value, Path: "/", HttpOnly: true, Secure: s.secure, SameSite: http.SameSiteStrictMode, MaxAge: seconds,
	}
}

func (s *Service) registerSession(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "sign-in", Method: http.MethodPost, Path: "/api/v1/session", Summary: "Sign in with a name and a password",
		Extensions: anybody, Tags: []string{"session"},
	}, s.signIn)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "get-session", Method: http.MethodGet, Path: "/api/v1/session", Summary: "Who is signed in", Tags: []string{"session"}, Extensions: needs(Look),
	}, func(ctx context.Context, _ *struct{}) (*struct{ Body api.Session }, error) {
		return &struct{ Body api.Session }{toSession(personOf(ctx))}, nil
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "sign-out", Method: http.MethodDelete, Path: "/api/v1/session", Summary: "Sign out", Tags: []string{"session"},
		DefaultStatus: http.StatusNoContent, Extensions: needs(Look),
	}, s.signOut)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "set-password", Method: http.MethodPut, Path: "/api/v1/password", Summary: "Set one's own password",
		DefaultStatus: http.StatusNoContent, Tags: []string{"session"}, Extensions: needs(Look),
	}, func(ctx context.Context, in *struct{ Body api.Password }) (*struct{}, error) {
		return nil, problem(ctx, s.setPassword(ctx, personOf(ctx).name, in.Body.Password))
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "list-tokens", Method: http.MethodGet, Path: "/api/v1/tokens", Summary: "One's own tokens for the command line", Tags: []string{"session"}, Extensions: needs(Look),
	}, s.listTokens)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "create-token", Method: http.MethodPost, Path: "/api/v1/tokens", Summary: "Make a token for the command line; it is told once",
		DefaultStatus: http.StatusCreated, Tags: []string{"session"}, Extensions: needs(Look),
	}, s.createToken)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "delete-token", Method: http.MethodDelete, Path: "/api/v1/tokens/{token}", Summary: "Take one of one's own tokens away",
		DefaultStatus: http.StatusNoContent, Tags: []string{"session"}, Extensions: needs(Look),
	}, s.deleteToken)
}

func (s *Service) registerUsers(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "list-users", Method: http.MethodGet, Path: "/api/v1/users", Summary: "All users", Tags: []string{"users"}, Extensions: needs(Administer),
	}, s.listUsers)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "create-user", Method: http.MethodPost, Path: "/api/v1/users", Summary: "Enter a user",
		DefaultStatus: http.StatusCreated, Tags: []string{"users"}, Extensions: needs(Administer),
	}, s.createUser)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "set-role", Method: http.MethodPut, Path: "/api/v1/users/{user}/role", Summary: "Change what a user may do",
		DefaultStatus: http.StatusNoContent, Tags: []string{"users"}, Extensions: needs(Administer),
	}, func(ctx context.Context, in *struct {
		UserInput
		Body api.Role
	}) (*struct{}, error) {
		return nil, problem(ctx, s.changeUser(ctx, in.User, func(u *store.User) bool { u.Role = in.Body.Role; return true }))
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "reset-password", Method: http.MethodPut, Path: "/api/v1/users/{user}/password", Summary: "Give a user a new password",
		DefaultStatus: http.StatusNoContent, Tags: []string{"users"}, Extensions: needs(Administer),
	}, func(ctx context.Context, in *struct {
		UserInput
		Body api.Password
	}) (*struct{}, error) {
		return nil, problem(ctx, s.setPassword(ctx, in.User, in.Body.Password))
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "delete-user", Method: http.MethodDelete, Path: "/api/v1/users/{user}", Summary: "Take a user away, tokens and sessions included",
		DefaultStatus: http.StatusNoContent, Tags: []string{"users"}, Extensions: needs(Administer),
	}, func(ctx context.Context, in *UserInput) (*struct{}, error) {
		return nil, problem(ctx, s.changeUser(ctx, in.User, func(*store.User) bool { return false }))
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
	p, secret, err := s.auth.signIn(ctx, originOf(ctx), in.Body.User, in.Body.Password)
	if err != nil {
		return nil, problem(ctx, err)
	}
	return &sessionOutput{s.sessionCookie(secret, int(sessionLife.Seconds())), toSession(p)}, nil
}

func (s *Service) signOut(_ context.Context, in *struct {
	Session string `cookie:"airdrift_session"`
}) (*struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
}, error) {
	s.auth.signOut(in.Session)
	return &struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
	}{s.sessionCookie("", -1)}, nil
}

// setPassword gives a user a new password and signs out whoever is signed in with the old one.
func (s *Service) setPassword(ctx context.Context, user, password string) error {
	hash, err := hashPassword(password)
	if err != nil {
		return err
	}
	return s.changeUser(ctx, user, func(u *store.User) bool { u.Hash = hash; return true })
}

func (s *Service) changeUser(ctx context.Context, name string, change func(*store.User) bool) error {
	err := s.store.ChangeUser(ctx, name, string(Administer), change)
	if errors.Is(err, store.ErrLast) {
		return refuse(http.StatusConflict, "%s is the last administrator: make somebody else one first", name)
	}
	if err == nil {
		s.auth.endSessions(name)
	}
	return err
}

func (s *Service) listUsers(ctx context.Context, _ *struct{}) (*struct{ Body []api.User }, error) {
	users, err := s.store.Users(ctx)
	if err != nil {
		return nil, problem(ctx, err)
	}
	list := make([]api.User, len(users))
	for i, u := range users {
		list[i] = api.User{Name: u.Name, Role: u.Role, Created: u.CreatedAt}
	}
	return &struct{ Body []api.User }{list}, nil
}

func (s *Service) createUser(ctx context.Context, in *struct{ Body api.NewUser }) (*struct{ Body api.User }, error) {
	remark(ctx, "%s, who may %s", in.Body.Name, in.Body.Role)
	hash, err := hashPassword(in.Body.Password)
	if err != nil {
		return nil, problem(ctx, err)
	}
	user := store.User{Name: in.Body.Name, Role: in.Body.Role, Hash: hash, CreatedAt: time.Now().UTC()}
	if err := s.store.CreateUser(ctx, user); err != nil {
		return nil, problem(ctx, err)
	}
	return &struct{ Body api.User }{api.User{Name: user.Name, Role: user.Role, Created: user.CreatedAt}}, nil
}

func (s *Service) listTokens(ctx context.Context, _ *struct{}) (*struct{ Body []api.Token }, error) {
	user, err := s.store.User(ctx, personOf(ctx).name)
	if err != nil {
		return nil, problem(ctx, err)
	}
	tokens, err := s.store.Tokens(ctx, user.ID)
	if err != nil {
		return nil, problem(ctx, err)
	}
	list := make([]api.Token, len(tokens))
	for i, t := range tokens {
		list[i] = api.Token{ID: t.ID, Label: t.Label, Created: t.CreatedAt}
	}
	return &struct{ Body []api.Token }{list}, nil
}

func (s *Service) createToken(ctx context.Context, in *struct{ Body api.NewToken }) (*struct{ Body api.Token }, error) {
	user, err := s.store.User(ctx, personOf(ctx).name)
	if err != nil {
		return nil, problem(ctx, err)
	}
	secret := NewSecret()
	hash := sha256.Sum256([]byte(secret))
	token := store.Token{UserID: user.ID, Label: in.Body.Label, Hash: hash[:], CreatedAt: time.Now().UTC()}
	if err := s.store.CreateToken(ctx, &token); err != nil {
		return nil, problem(ctx, err)
	}
	return &struct{ Body api.Token }{api.Token{ID: token.ID, Label: token.Label, Created: token.CreatedAt, Secret: secret}}, nil
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
	Before uint64 `query:"before" doc:"List lines with lower numbers only"`
	Limit  int    `query:"limit" minimum:"1" maximum:"500" default:"100"`
}) (*struct{ Body []api.AuditLine }, error) {
	lines, err := s.store.Audit(ctx, in.Before, in.Limit)
	if err != nil {
		return nil, problem(ctx, err)
	}
	list := make([]api.AuditLine, len(lines))
	for i, l := range lines {
		list[i] = api.AuditLine(l)
	}
	return &struct{ Body []api.AuditLine }{list}, nil
}
