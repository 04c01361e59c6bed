package service

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"airdrift/store"
)

const (
	// DefaultAuditKept is for how long lines of the audit log are kept.
	DefaultAuditKept = 400 * 24 * time.Hour
	// pruneEvery is how often older ones are deleted.
	pruneEvery = 24 * time.Hour
	// countEvery is for how long refused tries to sign in are counted before they are written down as one line.
	countEvery = time.Minute
	// maxCounted bounds what is counted apart; the rest is counted together.
	maxCounted = 1000
)

// audit writes down one request that was to change something, and what it was about.
func (s *Service) audit(ctx huma.Context, r *request) {
	url := ctx.URL()
	subject := url.Path
	if r.about != "" {
		subject += ": " + r.about
	}
	// What was done has been done, even where whoever asked for it has gone away meanwhile.
	s.writeAudit(context.WithoutCancel(ctx.Context()), store.AuditLine{
		Who: r.person.name, Role: string(r.person.role), Origin: r.origin, Action: ctx.Operation().OperationID, Subject: subject, Outcome: ctx.Status(),
	})
}

func (s *Service) writeAudit(ctx context.Context, line store.AuditLine) {
	ctx, cancel := context.WithTimeout(ctx, auditWait)
	defer cancel()
	line.At = time.Now().UTC()
	if err := s.store.AddAudit(ctx, line); err != nil {
		slog.ErrorContext(ctx, "the audit log could not be written", "who", line.Who, "action", line.Action, "subject", line.Subject, "error", err)
	}
}

// auditSignIn writes down who has signed in, or was refused. Strangers can try as often as they like, so of what is refused to
// one origin within a minute the first is written down at once, and how many came behind it as one line.
func (s *Service) auditSignIn(ctx context.Context, p person, err error) {
	r := requestOf(ctx)
	r.quiet = true
	line := store.AuditLine{Who: p.name, Role: string(p.role), Origin: r.origin, Action: "sign-in", Outcome: errOf(err)}
	if err == nil {
		line.Subject = "signed in"
		s.writeAudit(context.WithoutCancel(ctx), line)
		return
	}
	line.Role, line.Subject = "", "refused: "+err.Error()
	if p.name == "" {
		line.Who = "(no such user)" // what was typed may be a password
	}
	if s.refusals.first(refusal{network(r.origin), line.Who}) {
		s.writeAudit(context.WithoutCancel(ctx), line)
	}
}

// refusal is what is counted together.
type refusal struct{ origin, who string }

// refusals counts tries to sign in that were refused.
type refusals struct {
	mu sync.Mutex // guards by
	by map[refusal]int
}

// first counts one and reports whether it is the first of the minute.
func (r *refusals) first(of refusal) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.by == nil {
		r.by = map[refusal]int{}
	}
	if _, known := r.by[of]; !known && len(r.by) >= maxCounted {
		of = refusal{"many others", "(many names)"}
	}
	r.by[of]++
	return r.by[of] == 1
}

// take gives what was counted and begins anew.
func (r *refusals) take() map[refusal]int {
	r.mu.Lock()
	defer r.mu.Unlock()
	counted := r.by
	r.by = nil
	return counted
}

// keepAudit writes down what was counted, and deletes old lines, until ctx ends.
func (s *Service) keepAudit(ctx context.Context, kept time.Duration) {
	count, prune := time.NewTicker(countEvery), time.NewTicker(pruneEvery)
	defer count.Stop()
	defer prune.Stop()
	s.pruneAudit(ctx, kept)
	for {
		select {
		case <-count.C:
			s.writeRefusals(ctx)
		case <-prune.C:
			s.pruneAudit(ctx, kept)
		case <-ctx.Done():
			s.writeRefusals(context.WithoutCancel(ctx))
			return
		}
	}
}

func (s *Service) writeRefusals(ctx context.Context) {
	for of, count := range s.refusals.take() {
		if count > 1 {
			s.writeAudit(ctx, store.AuditLine{Who: of.who, Origin: of.origin, Action: "sign-in", Subject: fmt.Sprintf("%d further tries within a minute, all refused", count-1), Outcome: http.StatusUnauthorized})
		}
	}
}

func (s *Service) pruneAudit(ctx context.Context, kept time.Duration) {
	if kept == 0 {
		kept = DefaultAuditKept
	}
	if err := s.store.PruneAudit(ctx, time.Now().UTC().Add(-kept)); err != nil && ctx.Err() == nil {
		slog.ErrorContext(ctx, "old lines of the audit log could not be deleted", "error", err)
	}
}
