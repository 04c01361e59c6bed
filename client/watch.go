package client

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"airdrift/api"
)

// Watcher takes the events of a sweep; a nil member leaves its events out.
type Watcher struct {
	Progress func(api.Progress)
	Sighting func(api.Sighting)
	Warning  func(api.Warning)
}

// watchTries is how often in a row a line that breaks is taken up again before anything was told.
const watchTries = 5

// watchWait is how long it is waited before that at first; each time twice as long.
var watchWait = 250 * time.Millisecond

// errNonsense says that what the service tells cannot be read: to ask again is of no use.
var errNonsense = errors.New("what the service tells cannot be read")

// errBehind says that the service has cut off who watches.
var errBehind = errors.New("the service has cut off who lags behind")

// Watch tells the events of a sweep until it is over, and gives the sweep as it ended. Where the connection is lost, or the service cuts off who lags
// behind, it goes on from the event that was told last.
func (c *Client) Watch(ctx context.Context, id uint64, w Watcher) (api.Sweep, error) {
	line := &watching{client: c, sweep: id, watcher: w}
	for tries := 0; ; tries++ {
		before := line.last
		over, err := line.once(ctx)
		var problem *Problem
		if over || ctx.Err() != nil || errors.As(err, &problem) || errors.Is(err, errNonsense) {
			return line.final, err
		}
		if line.last != before { // it goes on
			tries = 0
		}
		if tries == watchTries {
			return line.final, fmt.Errorf("watch sweep %d: connection lost: %w", id, err)
		}
		select {
		case <-ctx.Done():
			return line.final, ctx.Err()
		case <-time.After(watchWait << tries):
		}
	}
}

// watching is a sweep that is watched, over however many lines.
type watching struct {
	client  *Client
	sweep   uint64
	watcher Watcher
	last    string // the number of the event that was told last
	final   api.Sweep
}

// once watches until the line breaks, or the sweep is over.
func (l *watching) once(ctx context.Context) (over bool, err error) {
	resp, err := l.client.sendWith(ctx, http.MethodGet, fmt.Sprintf("/api/v1/sweeps/%d/events", l.sweep), nil, http.Header{"Last-Event-Id": {l.last}})
	if err != nil {
		return false, err
	}
	defer resp.Body.Close()
	err = events(resp.Body, func(id, name string, data []byte) error {
		if err := l.take(name, data, &over); err != nil {
			return err
		}
		if id != "" {
			l.last = id
		}
		return nil
	})
	if errors.Is(err, bufio.ErrTooLong) {
		err = fmt.Errorf("%w: %w", errNonsense, err)
	}
	if err == nil && !over {
		err = io.ErrUnexpectedEOF
	}
	return over, err
}

// take tells one event.
func (l *watching) take(name string, data []byte, over *bool) error {
	tell := func() error {
		switch name {
		case "progress":
			return decode(data, l.watcher.Progress)
		case "sighting":
			return decode(data, l.watcher.Sighting)
		case "warning":
			return decode(data, l.watcher.Warning)
		case "sweep":
			*over = true
			return json.Unmarshal(data, &l.final)
		}
		return nil
	}
	if name == "behind" {
		return errBehind
	}
	if err := tell(); err != nil {
		return fmt.Errorf("%w: %w", errNonsense, err)
	}
	return nil
}

func decode[T any](data []byte, take func(T)) error {
	if take == nil {
		return nil
	}
	var value T
	if err := json.Unmarshal(data, &value); err != nil {
		return err
	}
	take(value)
	return nil
}

// events reads a stream of server-sent events (WHATWG HTML, 9.2).
func events(r io.Reader, take func(id, name string, data []byte) error) error {
	lines := bufio.NewScanner(r)
	lines.Buffer(make([]byte, 64<<10), maxEvent)
	id, name, data := "", "", []byte(nil)
	for lines.Scan() {
		field, value, _ := strings.Cut(lines.Text(), ":")
		value = strings.TrimPrefix(value, " ")
		switch field {
		case "id":
			id = value
		case "event":
			name = value
		case "data":
			data = append(data, value...)
		case "":
			if len(data) > 0 {
				if err := take(id, name, data); err != nil {
					return err
				}
			}
			id, name, data = "", "", nil
		}
	}
	return lines.Err()
}
