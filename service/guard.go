package service

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"airdrift/store"
)

// roleExtension says in the description of each operation who may use it.
const roleExtension = "x-role"

// needs marks the role that an operation wants. One that is not marked is refused to everybody.
func needs(role Role) map[string]any { return map[string]any{roleExtension: string(role)} }

// anybody marks operations that need no sign-in.
var anybody = map[string]any{roleExtension: "anybody"}

type personKey struct{}

type remarkKey struct{}

type originKey struct{}

// originOf gives the address that a request came from.
func originOf(ctx context.Context) string {
	origin, _ := ctx.Value(originKey{}).(string)
	return origin
}

// remark says in the audit log what a request is about, where its path does not tell.
func remark(ctx context.Context, format string, args ...any) {
	if text, ok := ctx.Value(remarkKey{}).(*string); ok {
		*text = fmt.Sprintf(format, args...)
	}
}

// personOf gives who makes the request.
func personOf(ctx context.Context) person {
	p, _ := ctx.Value(personKey{}).(person)
	return p
}

// guard lets nobody past who is not signed in or may not do what is asked for, and writes down who did what.
func (s *Service) guard(humaAPI huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		cookie := ""
		if c, err := huma.ReadCookie(ctx, cookieName); err == nil {
			cookie = c.Value
		}
		p, signedIn, expired, err := s.auth.who(ctx.Context(), ctx.Header("Authorization"), cookie)
		needed, _ := ctx.Operation().Extensions[roleExtension].(string)
		status, text, about := 0, "", ""
		switch {
		case needed == "anybody":
		case err != nil:
			slog.ErrorContext(ctx.Context(), "who is signed in could not be found out", "error", err)
			status, text = http.StatusServiceUnavailable, "who you are cannot be found out now: the database does not answer"
		case expired:
			status, text = http.StatusUnauthorized, "the session has expired: sign in again"
		case !signedIn:
			status, text = http.StatusUnauthorized, "not signed in: the console asks for name and password, and the command line sends the token from the service's data directory"
		case !p.role.may(Role(needed)) || needed == "":
			status, text = http.StatusForbidden, "your role is "+string(p.role)+", and this needs "+needed+": ask an administrator"
		}
		if status != 0 {
			_ = huma.WriteErr(humaAPI, ctx, status, text)
		} else {
			for key, value := range map[any]any{personKey{}: p, remarkKey{}: &about, originKey{}: originFrom(ctx.RemoteAddr())} {
				ctx = huma.WithValue(ctx, key, value)
			}
			next(ctx)
		}
		if ctx.Method() != http.MethodGet && (signedIn || status == 0) {
			s.audit(ctx, p, about)
		}
	}
}

// auditWait bounds the writing of one line.
const auditWait = 5 * time.Second

// audit writes down one request that was to change something, and what it was about.
func (s *Service) audit(ctx huma.Context, p person, about string) {
	url := ctx.URL()
	subject := url.Path
	if about != "" {
		subject += ": " + about
	}
	line := store.AuditLine{
		At: time.Now().UTC(), Who: p.name, Role: string(p.role), Origin: originFrom(ctx.RemoteAddr()), Action: ctx.Operation().OperationID,
		Subject: cutText(subject, 1000), Outcome: ctx.Status(),
	}
	// What was done has been done, even where whoever asked for it has gone away meanwhile.
	writeCtx, cancel := context.WithTimeout(context.WithoutCancel(ctx.Context()), auditWait)
	defer cancel()
	if err := s.store.AddAudit(writeCtx, line); err != nil {
		slog.ErrorContext(writeCtx, "the audit log could not be written", "who", line.Who, "action", line.Action, "subject", line.Subject, "error", err)
	}
}

// originFrom takes the port off an address. Headers that name another origin are not believed: anybody can send them.
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
