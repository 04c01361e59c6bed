// Package client is the typed client of the service's API.
package client

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"math"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"airdrift/api"
	"airdrift/internal/localsocket"
)

// maxEvent is the longest event taken, in bytes.
const maxEvent = 4 << 20

// Client speaks to one service. It may be used from several goroutines.
type Client struct {
	base  string
	token string
	http  *http.Client
}

// ErrClear is returned for a service that is to be reached by plain HTTP: a token would go to whoever listens there.
var ErrClear = errors.New("a token is sent by TLS alone: want a URL that begins with https://")

// New makes a client that speaks TLS to the service at a URL such as https://10.40.1.9:8470. pin is the SHA-256 of the key of its
// certificate in hexadecimal, for one that nobody has signed: the client then speaks to the holder of that key and to nobody else.
// With an empty pin the system's trusted certificates have to vouch for it. Any other than an https URL gives ErrClear.
func New(base, token, pin string) (*Client, error) {
	parsed, err := url.Parse(base)
	if err != nil || parsed.Host == "" {
		return nil, fmt.Errorf("%q is not a URL such as https://10.40.1.9:8470", base)
	}
	if parsed.Scheme != "https" {
		return nil, ErrClear
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.TLSClientConfig = &tls.Config{MinVersion: tls.VersionTLS12}
	if pin != "" {
		// The names and signatures of the certificate do not matter, as its key is the very one that is wanted.
		transport.TLSClientConfig.InsecureSkipVerify = true
		transport.TLSClientConfig.VerifyConnection = func(state tls.ConnectionState) error {
			sum := sha256.Sum256(state.PeerCertificates[0].RawSubjectPublicKeyInfo)
			if !strings.EqualFold(hex.EncodeToString(sum[:]), pin) {
				return errors.New("the service shows a certificate with another key than the one that is pinned")
			}
			return nil
		}
	}
	return Over(&http.Client{Transport: transport, CheckRedirect: stay}, base, token), nil
}

// stay keeps a client from following a service elsewhere, where its token would go as well.
func stay(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }

// Local makes a client for the service of a data directory on this machine. It goes by a socket there, at which the system says
// who is who: no token is sent.
func Local(data string) *Client {
	transport := &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) { return localsocket.Dial(ctx, data) }}
	return Over(&http.Client{Transport: transport, CheckRedirect: stay}, localBase, "")
}

// localBase stands for the service of this machine, which has no URL at its socket.
const localBase = "http://airdrift.local"

// Over makes a client that goes by a connection of the caller's choice; whom a token is shown to is then the caller's to know.
func Over(by *http.Client, base, token string) *Client {
	return &Client{base: strings.TrimRight(base, "/"), token: token, http: by}
}

// Problem is an answer of the service that tells what was wrong (RFC 9457).
type Problem struct {
	Type   string   `json:"type"`
	Status int      `json:"status"`
	Title  string   `json:"title"`
	Detail string   `json:"detail"`
	Errors []Detail `json:"errors"`
}

// Detail is one of several things wrong, with its place.
type Detail struct {
	Message  string `json:"message"`
	Location string `json:"location"`
	Value    any    `json:"value"`
}

func (p *Problem) Error() string {
	text := p.Detail
	if text == "" {
		text = p.Title
	}
	for _, d := range p.Errors {
		text += "\n  " + d.Location
		if field, ok := d.Value.(string); ok && field != "" && !strings.HasPrefix(d.Location, "body") {
			text += " (" + field + ")"
		}
		text += ": " + d.Message
	}
	return text
}

// do sends a request and decodes the answer.
func do[T any](ctx context.Context, c *Client, method, path string, body any) (T, error) {
	resp, err := c.send(ctx, method, path, body)
	if err != nil {
		var none T
		return none, err
	}
	return answerOf[T](resp)
}

func answerOf[T any](resp *http.Response) (T, error) {
	var out T
	defer resp.Body.Close()
	if resp.StatusCode == http.StatusNoContent {
		return out, nil
	}
	if err := json.NewDecoder(resp.Body).Decode(&out); err != nil {
		return out, fmt.Errorf("answer of the service: %w", err)
	}
	return out, nil
}

// once sends a request that starts or takes in something, under a key of its own: where its answer is lost on the way it is sent again and
// carried out once all the same. A body that is a reader is sent once.
func once[T any](ctx context.Context, c *Client, method, path string, body any) (T, error) {
	header := http.Header{"Idempotency-Key": {rand.Text()}}
	_, stream := body.(io.Reader)
	for try := 1; ; try++ {
		resp, err := c.sendWith(ctx, method, path, body, header)
		var problem *Problem
		if err != nil && !errors.As(err, &problem) && ctx.Err() == nil && !stream && try < maxTries {
			select {
			case <-time.After(time.Duration(try) * retryAfter):
				continue
			case <-ctx.Done():
			}
		}
		var out T
		if err != nil {
			return out, err
		}
		return answerOf[T](resp)
	}
}

const (
	// maxTries is how often a request is sent whose answer is lost on the way, and retryAfter what is waited in between, times the try.
	maxTries   = 3
	retryAfter = 500 * time.Millisecond
)

// send gives the answer to a request, or its problem as an error. A body that is a reader is sent as it is.
func (c *Client) send(ctx context.Context, method, path string, body any) (*http.Response, error) {
	return c.sendWith(ctx, method, path, body, nil)
}

// sendWith is send with more in the header; members that are empty are left out.
func (c *Client) sendWith(ctx context.Context, method, path string, body any, header http.Header) (*http.Response, error) {
	reader, contentType, err := encode(body)
	if err != nil {
		return nil, err
	}
	req, err := http.NewRequestWithContext(ctx, method, c.base+path, reader)
	if err != nil {
		return nil, fmt.Errorf("address of the service: %w", err)
	}
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	if contentType != "" {
		req.Header.Set("Content-Type", contentType)
	}
	for name, values := range header {
		if values[0] != "" {
			req.Header.Set(name, values[0])
		}
	}
	resp, err := c.http.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if errors.Is(err, localsocket.ErrNone) {
			return nil, errors.New("no service runs on this data directory: start one with airdrift serve, or name another with --data")
		}
		if c.base == localBase {
			return nil, fmt.Errorf("the service of this data directory cannot be reached: %w", errors.Unwrap(err))
		}
		return nil, fmt.Errorf("no service answers at %s: is it running? (%w)", c.base, errors.Unwrap(err))
	}
	if resp.StatusCode < http.StatusMultipleChoices {
		return resp, nil
	}
	defer resp.Body.Close()
	problem := &Problem{Status: resp.StatusCode, Title: resp.Status}
	_ = json.NewDecoder(io.LimitReader(resp.Body, maxEvent)).Decode(problem) // the status alone says enough
	return nil, problem
}

func encode(body any) (reader io.Reader, contentType string, err error) {
	switch body := body.(type) {
	case nil:
		return nil, "", nil
	case io.Reader:
		return body, "application/octet-stream", nil
	}
	text, err := json.Marshal(body)
	return bytes.NewReader(text), "application/json", err
}

// all gives all items of a list, page by page.
func all[T any](ctx context.Context, c *Client, path string) ([]T, error) {
	return first[T](ctx, c, path, nil, math.MaxInt)
}

// largestPage is how many items the service gives at once.
const largestPage = 1000

// first gives the first items of a list, page by page, at most so many; 0 gives them all. What values say stands behind the path.
func first[T any](ctx context.Context, c *Client, path string, values url.Values, most int) ([]T, error) {
	values = maps.Clone(values)
	if values == nil {
		values = url.Values{}
	}
	sign := "?"
	if strings.Contains(path, "?") {
		sign = "&"
	}
	if most <= 0 {
		most = math.MaxInt
	}
	items := []T{}
	for len(items) < most {
		values.Set("limit", strconv.Itoa(min(most-len(items), largestPage)))
		page, err := do[api.List[T]](ctx, c, http.MethodGet, path+sign+values.Encode(), nil)
		if err != nil {
			return nil, err
		}
		items = append(items, page.Items...)
		if page.Next == "" {
			break
		}
		values.Set("cursor", page.Next)
	}
	return items, nil
}
