package service

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"airdrift/store"
)

const (
	// onceExtension marks operations that a client may send again without their being carried out again.
	onceExtension = "x-idempotent"
	// onceHeader is what such a request is known again by (IETF draft-ietf-httpapi-idempotency-key-header).
	onceHeader = "Idempotency-Key"
	// againHeader says that an answer was given before.
	againHeader = "Idempotency-Replayed"
	// onceKept is for how long it is known again.
	onceKept = 24 * time.Hour
	// maxKey bounds a key, and maxKept the answer that is kept, in bytes.
	maxKey, maxKept = 200, 1 << 20
	// maxHashed is the longest body that takes part in telling requests apart, in bytes; files that are longer are told apart by their length.
	maxHashed = 1 << 20
)

// once is needs for operations that are carried out once, however often they are sent with one key.
func once(role Role) map[string]any {
	return map[string]any{roleExtension: string(role), onceExtension: true}
}

// carryOutOnce answers a request that has come before by what came of it then.
func (s *Service) carryOutOnce(humaAPI huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		key := ctx.Header(onceHeader)
		if marked, _ := ctx.Operation().Extensions[onceExtension].(bool); !marked || key == "" {
			next(ctx)
			return
		}
		if len(key) > maxKey {
			_ = huma.WriteErr(humaAPI, ctx, http.StatusUnprocessableEntity, fmt.Sprintf("the key of the request is longer than %d bytes", maxKey))
			return
		}
		if err := s.answerOnce(ctx, key, next); err != nil {
			writeProblem(ctx, problem(ctx.Context(), err))
		}
	}
}

func (s *Service) answerOnce(ctx huma.Context, key string, next func(huma.Context)) error {
	r := &onceRequest{inner: ctx, body: ctx.BodyReader()}
	asked, err := r.fingerprint()
	if err != nil {
		return refuse(http.StatusBadRequest, "the request could not be read: %v", err)
	}
	kept := store.KeptAnswer{Who: personOf(ctx.Context()).name, RequestKey: key, Fingerprint: asked, At: time.Now().UTC()}
	before, err := s.store.BeginAnswer(ctx.Context(), kept, kept.At.Add(-onceKept))
	switch {
	case errors.Is(err, store.ErrOtherRequest):
		return &refusedError{status: http.StatusUnprocessableEntity, kind: kindKeyUsed, text: "the key of this request was used for another one: give each its own"}
	case err != nil:
		return err
	case before == nil:
	case before.Status == 0:
		return &refusedError{status: http.StatusConflict, kind: kindKeyRunning, text: "the same request is being carried out: wait for what comes of it"}
	default:
		ctx.SetHeader(againHeader, "true")
		ctx.SetHeader("Content-Type", before.ContentType)
		ctx.SetStatus(before.Status)
		_, err := ctx.BodyWriter().Write(before.Answer)
		return err
	}
	defer func() { // also where what carries it out fails in a way that nobody has foreseen
		if kept.Status = r.answered(); kept.Status != 0 {
			kept.ContentType, kept.Answer = r.contentType, append([]byte{}, r.answer.Bytes()...) // an empty answer is one too
		}
		if err := s.store.EndAnswer(context.WithoutCancel(ctx.Context()), kept); err != nil {
			slog.ErrorContext(ctx.Context(), "what came of a request could not be kept", "error", err)
		}
	}()
	next(r)
	return nil
}

// inner is the request as it came; its own name would hide its method of that name.
type inner = huma.Context

// onceRequest takes down what is answered to a request.
type onceRequest struct {
	inner
	body        io.Reader
	contentType string
	status      int
	answer      bytes.Buffer
	tooLong     bool
}

// fingerprint tells what is asked, by method, address and the beginning of the body.
func (r *onceRequest) fingerprint() ([]byte, error) {
	url := r.URL()
	sum := sha256.New()
	fmt.Fprintf(sum, "%s %s %s\n", r.Method(), url.RequestURI(), r.Header("Content-Length"))
	begin, err := io.ReadAll(io.LimitReader(r.body, maxHashed))
	if err != nil {
		return nil, err
	}
	sum.Write(begin)
	r.body = io.MultiReader(bytes.NewReader(begin), r.body)
	return sum.Sum(nil), nil
}

// BodyReader gives the whole body, of which the beginning was read already.
func (r *onceRequest) BodyReader() io.Reader { return r.body }

// SetStatus takes the status down.
func (r *onceRequest) SetStatus(code int) {
	r.status = code
	r.inner.SetStatus(code)
}

// SetHeader takes down in which form the answer is.
func (r *onceRequest) SetHeader(name, value string) {
	if http.CanonicalHeaderKey(name) == "Content-Type" {
		r.contentType = value
	}
	r.inner.SetHeader(name, value)
}

// BodyWriter takes the answer down.
func (r *onceRequest) BodyWriter() io.Writer { return io.MultiWriter(r, r.inner.BodyWriter()) }

func (r *onceRequest) Write(part []byte) (int, error) {
	if r.tooLong = r.tooLong || r.answer.Len()+len(part) > maxKept; !r.tooLong {
		r.answer.Write(part)
	}
	return len(part), nil
}

// answered gives the status that is kept; 0 where the request may be sent again, as nothing came of it.
func (r *onceRequest) answered() int {
	if r.status == 0 || r.status >= http.StatusInternalServerError || r.status == http.StatusTooManyRequests || r.tooLong {
		return 0
	}
	return r.status
}

// writeProblem answers with a problem where no operation does.
func writeProblem(ctx huma.Context, err error) {
	var told huma.StatusError
	if !errors.As(err, &told) {
		return
	}
	ctx.SetHeader("Content-Type", "application/problem+json")
	ctx.SetStatus(told.GetStatus())
	_ = json.NewEncoder(ctx.BodyWriter()).Encode(told) // fails only where the client has gone away
}
