package service

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"image/png"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/pquerna/otp"
	"github.com/pquerna/otp/totp"

	"airdrift/api"
	"airdrift/store"
)

const (
	// codePeriod is how long one code of the second factor is good, and codeSkew how many periods the clocks may differ by
	// (RFC 6238, 5.2).
	codePeriod = 30 * time.Second
	codeSkew   = 1
	// recoveryCodes is how many codes stand in for a lost second factor, each once.
	recoveryCodes = 10
)

// secondFactorType is the type of the problem that says that a code is wanted (RFC 9457, 3.1.1).
const secondFactorType = "second-factor"

var (
	errCodeWanted = &refusedError{status: http.StatusUnauthorized, kind: secondFactorType, text: "a code of the second factor is wanted: the six digits that your authenticator shows, or a recovery code"}
	errWrongCode  = &refusedError{status: http.StatusUnauthorized, kind: secondFactorType, text: "the code is not right, or was used already: wait for the next one"}
)

func placeOfSecond(user uint64) string { return fmt.Sprintf("second factor of user %d", user) }

// secondFactor checks the code of a user who has a second factor. No code is good twice.
func (a *auth) secondFactor(ctx context.Context, user store.User, code string) error {
	if len(user.SecondFactor) == 0 {
		return nil
	}
	code = strings.ToLower(strings.NewReplacer(" ", "", "-", "").Replace(code))
	if code == "" {
		return errCodeWanted
	}
	sealed, err := a.vault.Open(placeOfSecond(user.ID), user.SecondFactor)
	if err != nil {
		return err
	}
	step := matchCode(string(sealed), code, a.now())
	// Under the row's lock, so that two requests with one code are not both let in.
	_, err = a.store.ChangeUser(ctx, user.Name, string(Administer), func(u *store.User) (bool, error) {
		if step > u.SecondFactorStep {
			u.SecondFactorStep = step
			return true, nil
		}
		left, used := without(u.Recovery, code)
		if !used {
			return true, errWrongCode
		}
		u.Recovery = left
		return true, nil
	})
	if errors.Is(err, errWrongCode) {
		a.tries.failed(user.Name, a.now())
	}
	return err
}

// matchCode gives the period whose code this is, 0 where it is none's.
func matchCode(secret, code string, now time.Time) int64 {
	for skew := -codeSkew; skew <= codeSkew; skew++ {
		at := now.Add(time.Duration(skew) * codePeriod)
		right, err := totp.ValidateCustom(code, secret, at, totp.ValidateOpts{Period: uint(codePeriod / time.Second), Skew: 0, Digits: otp.DigitsSix, Algorithm: otp.AlgorithmSHA1})
		if err == nil && right {
			return at.Unix() / int64(codePeriod/time.Second)
		}
	}
	return 0
}

// hashCode gives what is kept of a recovery code, which has 80 random bits.
func hashCode(code string) string {
	sum := sha256.Sum256([]byte(code))
	return hex.EncodeToString(sum[:])
}

// without takes a code out of the hashes of those that are left.
func without(hashes, code string) (left string, was bool) {
	all := strings.Fields(hashes)
	at := slices.Index(all, hashCode(code))
	if at < 0 {
		return hashes, false
	}
	return strings.Join(slices.Delete(all, at, at+1), " "), true
}

func (s *Service) registerSecondFactor(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "begin-second-factor", Method: http.MethodPost, Path: "/api/v1/second-factor", Summary: "Make the secret of a second factor; it holds once a code of it has been shown",
		Tags: []string{"session"}, Extensions: beforeSecondFactor(Look),
	}, s.beginSecondFactor)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "confirm-second-factor", Method: http.MethodPut, Path: "/api/v1/second-factor", Summary: "Turn the second factor on by a code of it; gives the recovery codes",
		Tags: []string{"session"}, Extensions: beforeSecondFactor(Look),
	}, s.confirmSecondFactor)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "remove-second-factor", Method: http.MethodPost, Path: "/api/v1/second-factor/removal", Summary: "Turn one's own second factor off",
		DefaultStatus: http.StatusNoContent, Tags: []string{"session"}, Extensions: needs(Look),
	}, s.removeSecondFactor)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "reset-second-factor", Method: http.MethodDelete, Path: "/api/v1/users/{user}/second-factor", Summary: "Turn the second factor of a user off who has lost it",
		DefaultStatus: http.StatusNoContent, Tags: []string{"users"}, Extensions: needs(Administer),
	}, func(ctx context.Context, in *UserInput) (*struct{}, error) {
		_, err := s.store.ChangeUser(ctx, UserName(in.User), string(Administer), func(u *store.User) (bool, error) {
			u.SecondFactor, u.Recovery = nil, ""
			return true, nil
		})
		return nil, problem(ctx, err)
	})
}

func (s *Service) beginSecondFactor(ctx context.Context, in *struct{ Body api.Confirmation }) (*struct{ Body api.SecondFactor }, error) {
	p := personOf(ctx)
	user, err := s.auth.confirm(ctx, p, originOf(ctx), in.Body.Password)
	if err != nil {
		return nil, problem(ctx, err)
	}
	if len(user.SecondFactor) > 0 {
		return nil, problem(ctx, refuse(http.StatusConflict, "there is a second factor already: turn it off first"))
	}
	key, err := totp.Generate(totp.GenerateOpts{Issuer: "Airdrift", AccountName: p.name, Period: uint(codePeriod / time.Second)})
	if err != nil {
		return nil, problem(ctx, err)
	}
	picture, err := key.Image(220, 220)
	if err != nil {
		return nil, problem(ctx, err)
	}
	var drawn bytes.Buffer
	if err := png.Encode(&drawn, picture); err != nil {
		return nil, problem(ctx, err)
	}
	s.pending.Store(p.id, key.Secret())
	return &struct{ Body api.SecondFactor }{api.SecondFactor{Secret: key.Secret(), URL: key.URL(), Picture: "data:image/png;base64," + base64.StdEncoding.EncodeToString(drawn.Bytes())}}, nil
}

func (s *Service) confirmSecondFactor(ctx context.Context, in *struct{ Body api.Code }) (*struct{ Body api.RecoveryCodes }, error) {
	p := personOf(ctx)
	begun, _ := s.pending.Load(p.id)
	secret, _ := begun.(string)
	if secret == "" {
		return nil, problem(ctx, refuse(http.StatusConflict, "no second factor was begun: begin with the picture"))
	}
	step := matchCode(secret, strings.ReplaceAll(in.Body.Code, " ", ""), s.auth.now())
	if step == 0 {
		return nil, problem(ctx, refuse(http.StatusUnprocessableEntity, "the code is not right: is the clock of the device that shows it right?"))
	}
	out := api.RecoveryCodes{Codes: make([]string, recoveryCodes)}
	hashes := make([]string, recoveryCodes)
	for i := range out.Codes {
		code := strings.ToLower(rand.Text())[:16]
		out.Codes[i], hashes[i] = strings.Join([]string{code[:4], code[4:8], code[8:12], code[12:]}, "-"), hashCode(code)
	}
	_, err := s.store.ChangeUser(ctx, p.name, string(Administer), func(u *store.User) (bool, error) {
		u.SecondFactor, u.SecondFactorStep, u.Recovery = s.sweeper.vault.Seal(placeOfSecond(u.ID), []byte(secret)), step, strings.Join(hashes, " ")
		return true, nil
	})
	if err != nil {
		return nil, problem(ctx, err)
	}
	s.pending.Delete(p.id)
	s.auth.sessions.end(p.id, p.session) // those that were opened without it
	return &struct{ Body api.RecoveryCodes }{out}, nil
}

func (s *Service) removeSecondFactor(ctx context.Context, in *struct{ Body api.Confirmation }) (*struct{}, error) {
	p := personOf(ctx)
	user, err := s.auth.confirm(ctx, p, originOf(ctx), in.Body.Password)
	if err == nil {
		err = s.auth.secondFactor(ctx, user, in.Body.Code)
	}
	if err != nil {
		return nil, problem(ctx, asForbidden(err))
	}
	_, err = s.store.ChangeUser(ctx, p.name, string(Administer), func(u *store.User) (bool, error) {
		u.SecondFactor, u.Recovery = nil, ""
		return true, nil
	})
	return nil, problem(ctx, err)
}

// asForbidden turns a refusal of a code into one that does not say that the session is over.
func asForbidden(err error) error {
	var refused *refusedError
	if errors.As(err, &refused) && refused.status == http.StatusUnauthorized {
		return &refusedError{status: http.StatusForbidden, kind: refused.kind, text: refused.text}
	}
	return err
}
