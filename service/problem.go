package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"airdrift/books"
	"airdrift/core/fault"
	"airdrift/core/netrange"
	"airdrift/core/sweep"
	"airdrift/core/wire"
	"airdrift/hostwire"
	"airdrift/store"
)

func init() {
	// What a request held is never told back in the answer: it may be a secret that was typed in.
	told := huma.NewErrorWithContext
	huma.NewErrorWithContext = func(ctx huma.Context, status int, text string, errs ...error) huma.StatusError {
		for _, err := range errs {
			var detail *huma.ErrorDetail
			if errors.As(err, &detail) && strings.HasPrefix(detail.Location, "body") {
				detail.Value = nil
				if strings.HasPrefix(detail.Message, "unexpected property") {
					detail.Location = "body" // the name of one may be what was typed in the wrong place
				}
			}
		}
		made := told(ctx, status, text, errs...)
		if model, ok := made.(*huma.ErrorModel); ok {
			model.Type = typeOf("", status)
		}
		return made
	}
}

// problem turns any error into problem details (RFC 9457) with a status and words for the user. What is none of the
// user's making is logged and told without its inner text.
func problem(ctx context.Context, err error) error {
	var (
		ready   huma.StatusError
		faults  *fault.List
		part    *netrange.PartError
		line    *netrange.LineError
		outside *wire.OutsideError
		unknown *hostwire.UnknownInterfaceError
		refusal *refusedError
		unkept  *books.Refusal
	)
	switch {
	case err == nil:
		return nil
	case errors.As(err, &ready):
		return err
	case errors.As(err, &refusal):
		return problemOf(refusal.status, refusal.kind, refusal.text)
	case errors.As(err, &unkept):
		status := http.StatusUnprocessableEntity
		if unkept.Now {
			status = http.StatusConflict
		}
		if unkept.Kind == books.KindChanged {
			status = http.StatusPreconditionFailed
		}
		return problem(ctx, &refusedError{status: status, kind: unkept.Kind, text: unkept.Text})
	case errors.As(err, &faults):
		return faultProblem(faults)
	case errors.As(err, &line):
		return huma.Error422UnprocessableEntity(err.Error())
	case errors.As(err, &part):
		// The whole text: what wraps the fault says whether it is in the ranges or in what is left out.
		return huma.Error422UnprocessableEntity(err.Error())
	case errors.Is(err, netrange.ErrEmpty), errors.Is(err, sweep.ErrNoDevice):
		return huma.Error422UnprocessableEntity(err.Error())
	case errors.As(err, &outside):
		return problemOf(http.StatusUnprocessableEntity, kindOutside, outside.Error()+". Nothing was sent. If you have leave to sweep there, add its network to the site first: airdrift fence add SUBNET, or the console's page Fence.")
	case errors.As(err, &unknown):
		return huma.Error422UnprocessableEntity(unknown.Error())
	case errors.Is(err, store.ErrNotFound):
		return huma.Error404NotFound(err.Error())
	case errors.Is(err, store.ErrTaken):
		return problemOf(http.StatusConflict, kindTaken, err.Error())
	case errors.Is(err, context.Canceled):
		return huma.NewError(http.StatusServiceUnavailable, "the request was broken off")
	}
	slog.ErrorContext(ctx, "request failed", "error", err)
	return huma.Error500InternalServerError("the service failed at this; its log tells why")
}

// problemOf makes a problem of a kind; "" is for what its status tells.
func problemOf(status int, kind, text string, details ...error) error {
	made := huma.NewError(status, text, details...)
	if model, ok := made.(*huma.ErrorModel); ok {
		model.Type = typeOf(kind, status)
	}
	return made
}

// faultProblem lists every fault of a file with its place.
func faultProblem(faults *fault.List) error {
	details := make([]error, len(faults.Faults))
	for i, f := range faults.Faults {
		details[i] = &huma.ErrorDetail{Message: f.Why, Location: place(f), Value: f.Field}
	}
	text := fmt.Sprintf("nothing was imported: the file has %d faults", faults.Count())
	if faults.Count() == 1 {
		text = "nothing was imported: the file has 1 fault"
	}
	return problemOf(http.StatusUnprocessableEntity, kindFaultyFile, text, details...)
}

func place(f fault.Fault) string {
	switch {
	case f.Line == 0:
		return "file"
	case f.Column == 0:
		return fmt.Sprintf("line %d", f.Line)
	}
	return fmt.Sprintf("line %d, column %d", f.Line, f.Column)
}

// refusedError is a request that cannot be carried out now, in words for the user.
type refusedError struct {
	status int
	kind   string // the type of the problem, for programs that do something about it; empty for most
	text   string
}

func (e *refusedError) Error() string { return e.text }

func refuse(status int, format string, args ...any) error {
	return &refusedError{status: status, text: fmt.Sprintf(format, args...)}
}
