package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5/middleware"

	"airdrift/internal/localsocket"
)

const (
	// roleExtension says in the description of each operation who may use it.
	roleExtension = "x-role"
	// earlyExtension marks operations that somebody may use before the second factor is set up that the service requires.
	earlyExtension = "x-before-second-factor"
	// auditExtension marks operations that change nothing and are written down all the same, as they take much out at once.
	auditExtension = "x-audited"
)

// needs marks the role that an operation wants. One that is not marked is refused to everybody.
func needs(role Role) map[string]any { return map[string]any{roleExtension: string(role)} }

// beforeSecondFactor is needs for what somebody may do before the second factor is set up.
func beforeSecondFactor(role Role) map[string]any {
	return map[string]any{roleExtension: string(role), earlyExtension: true}
}

// exports is needs for what is written down though it changes nothing.
func exports(role Role) map[string]any {
	return map[string]any{roleExtension: string(role), auditExtension: true}
}

// anybody marks operations that need no sign-in.
var anybody = map[string]any{roleExtension: "anybody"}

type (
	requestKey struct{}
	localKey   struct{}
)

// request is what is known of a request while it is served.
type request struct {
	person person
	claim  claim
	origin string
	about  string // for the audit log, where the path does not tell
	quiet  bool   // it is written down elsewhere
}

func requestOf(ctx context.Context) *request {
	if r, ok := ctx.Value(requestKey{}).(*request); ok {
		return r
	}
	return &request{}
}

// originOf gives the address that a request came from.
func originOf(ctx context.Context) string { return requestOf(ctx).origin }

// personOf gives who makes the request.
func personOf(ctx context.Context) person { return requestOf(ctx).person }

// remark says in the audit log what a request is about, where its path does not tell.
func remark(ctx context.Context, format string, args ...any) {
	requestOf(ctx).about = fmt.Sprintf(format, args...)
}

// withLocal marks the connections of the local command line, by what the system says of who is at the other end.
func withLocal(ctx context.Context, conn net.Conn) context.Context {
	if l, ok := conn.(*limitedConn); ok {
		conn = l.Conn
	}
	return context.WithValue(ctx, localKey{}, localsocket.MayCommand(conn))
}

// unattendedHeader is sent by the console while nobody is at it, so that a page that is left open keeps no session alive.
const unattendedHeader = "Airdrift-Unattended"

// guard lets nobody past who is not signed in or may not do what is asked for, and writes down who did what.
func (s *Service) guard(humaAPI huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		r := &request{origin: originFrom(ctx.RemoteAddr())}
		r.claim = claim{authorization: ctx.Header("Authorization"), unattended: ctx.Header(unattendedHeader) != ""}
		if c, err := huma.ReadCookie(ctx, s.cookieName()); err == nil {
			r.claim.cookie = c.Value
		}
		if local, ok := ctx.Context().Value(localKey{}).(bool); ok {
			r.claim.local, r.origin = local, "local"
		} else if from, ok := clientAddr(ctx.Context()); ok {
			r.origin = from
		}
		p, signedIn, expired, err := s.auth.who(ctx.Context(), r.claim)
		r.person = p
		needed, _ := ctx.Operation().Extensions[roleExtension].(string)
		early, _ := ctx.Operation().Extensions[earlyExtension].(bool)
		status, text := 0, ""
		switch {
		case needed == "anybody":
		case err != nil:
			slog.ErrorContext(ctx.Context(), "who is signed in could not be found out", "error", err)
			status, text = http.StatusServiceUnavailable, "who you are cannot be found out now: the database does not answer"
		case expired:
			status, text = http.StatusUnauthorized, "the session has expired: sign in again"
		case !signedIn:
			status, text = http.StatusUnauthorized, "not signed in: the console asks for name and password, and a command line on another machine sends a token"
		case !p.role.may(Role(needed)) || needed == "":
			status, text = http.StatusForbidden, "your role is "+string(p.role)+", and this needs "+needed+": ask an administrator"
		case p.limited && !early:
			status, text = http.StatusForbidden, "this service wants a second factor of everybody: set yours up first, on the page Account"
		}
		if status != 0 {
			_ = huma.WriteErr(humaAPI, ctx, status, text)
		} else {
			next(huma.WithValue(ctx, requestKey{}, r))
		}
		audited, _ := ctx.Operation().Extensions[auditExtension].(bool)
		if (ctx.Method() != http.MethodGet || audited) && signedIn && !r.quiet {
			s.audit(ctx, r)
		}
	}
}

// clientAddr gives the address of a client behind a proxy that is trusted.
func clientAddr(ctx context.Context) (string, bool) {
	from := middleware.GetClientIPAddr(ctx)
	return from.String(), from.IsValid()
}

// originFrom takes the port off an address. Headers that name another origin are believed of trusted proxies alone.
func originFrom(remote string) string {
	origin, _, err := net.SplitHostPort(remote)
	if err != nil {
		return remote
	}
	return origin
}

// cutText gives the beginning of a text, in whole characters.
func cutText(text string, most int) string {
	if len(text) > most {
		return strings.ToValidUTF8(text[:most], "")
	}
	return text
}

// errOf finds the status that a failure will be answered by.
func errOf(err error) int {
	var refused *refusedError
	switch {
	case err == nil:
		return http.StatusOK
	case errors.As(err, &refused):
		return refused.status
	}
	return http.StatusInternalServerError
}

// auditWait bounds the writing of one line.
const auditWait = 5 * time.Second
