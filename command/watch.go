package command

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"airdrift/api"
	"airdrift/client"
)

// drawEvery is how often what is watched is drawn anew.
const drawEvery = 2 * time.Second

// watchFlag is the flag of commands that show something again and again.
func watchFlag() cli.Flag {
	return &cli.BoolFlag{Name: "watch", Usage: "show it on the terminal and keep it up to date, until Ctrl-C"}
}

// ANSI X3.64 and the terminal's own: a screen of its own that leaves the lines before as they were, and the beginning of it.
const (
	otherScreen, backToLines = "\x1b[?1049h\x1b[?25l", "\x1b[?25h\x1b[?1049l"
	toTop, restOfLine, below = "\x1b[H", "\x1b[K\r\n", "\x1b[J"
)

// screen is a terminal on which something is drawn over and over.
type screen struct {
	w             io.Writer
	width, height int
}

// show draws lines in the place of those before; those for which there is no room are counted.
func (s screen) show(title, text string) error {
	lines := strings.Split(strings.TrimRight(text, "\n"), "\n")
	if room := s.height - 2; len(lines) > room {
		lines = append(lines[:max(room-1, 0)], fmt.Sprintf("and %d lines more", len(lines)-room+1))
	}
	var out bytes.Buffer
	out.WriteString(toTop)
	for _, line := range append([]string{title}, lines...) {
		out.WriteString(line + restOfLine)
	}
	out.WriteString(below)
	_, err := out.WriteTo(s.w)
	return err
}

// onScreen gives what draws a screen of its own until ctx ends, which is no failure.
func (p Program) onScreen(ctx context.Context, run func(context.Context, func() screen) error) error {
	file, ok := p.Out.(*os.File)
	if !ok || !isTerminal(file) {
		return wrongUse("--watch wants a terminal; without it the list is written once")
	}
	fmt.Fprint(file, otherScreen)
	defer fmt.Fprint(file, backToLines)
	err := run(ctx, func() screen { // its size may change
		width, height, err := term.GetSize(int(file.Fd()))
		if err != nil {
			width, height = 80, 24
		}
		return screen{file, width, height}
	})
	if errors.Is(err, context.Canceled) && ctx.Err() != nil {
		return nil
	}
	return err
}

// every draws at once and then at intervals until ctx ends. While the service does not answer, what was drawn stays and the failure stands above it.
func every(ctx context.Context, interval time.Duration, now func() screen, read func() (title, text string, err error)) error {
	ticker := time.NewTicker(interval)
	defer ticker.Stop()
	var title, text string
	for {
		newTitle, newText, err := read()
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case err != nil && title == "":
			return err
		case err != nil:
			newTitle, newText = visible(fmt.Sprintf("What is shown may be old: %v", err), false), text
		default:
			title, text = newTitle, newText
		}
		if err := now().show(newTitle, newText); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-ticker.C:
		}
	}
}

// watchDevices keeps the first devices of a list on the terminal.
func (p Program) watchDevices(ctx context.Context, cl *client.Client, site api.Site, q client.DeviceQuery, columns []string) error {
	return p.onScreen(ctx, func(ctx context.Context, now func() screen) error {
		return every(ctx, drawEvery, now, func() (string, string, error) {
			s := now()
			q.Limit = max(1, min(pageSize, s.height))
			list, err := cl.Devices(ctx, site.ID, q)
			if err != nil {
				return "", "", err
			}
			title := fmt.Sprintf("%s: %d devices, %s. Ctrl-C ends.", visible(site.Name, false), list.Counted(), time.Now().Format(time.TimeOnly))
			return title, tableText(devicesGrid(list.Items, columns), s.width, colourful(p.Out)), nil
		})
	})
}

// watchSweep keeps what a sweep saw last on the terminal, until it is over; then it stands below as any other command's.
func (p Program) watchSweep(ctx context.Context, cl *client.Client, id uint64) error {
	var mu sync.Mutex
	var seen []api.Sighting // the latest last
	var progress api.Progress
	var final *api.Sweep
	err := p.onScreen(ctx, func(ctx context.Context, now func() screen) error {
		drawing, over := context.WithCancel(ctx)
		defer over()
		var failed error
		var watching sync.WaitGroup
		watching.Go(func() {
			defer over()
			ended, err := cl.Watch(ctx, id, client.Watcher{
				Progress: func(told api.Progress) { mu.Lock(); progress = told; mu.Unlock() },
				Sighting: func(s api.Sighting) { mu.Lock(); seen = latest(seen, s, now().height); mu.Unlock() },
			})
			if failed = err; err == nil {
				final = &ended
			}
		})
		err := every(drawing, drawEvery/4, now, func() (string, string, error) {
			mu.Lock()
			defer mu.Unlock()
			title := fmt.Sprintf("Sweep %d: %s, %d of %d, %d found, %.0f/s. Ctrl-C leaves it running.", id, progress.Stage, progress.Done, progress.Total, progress.Found, progress.Rate)
			return visible(title, false), tableText(sightingsGrid(seen), now().width, colourful(p.Out)), nil
		})
		watching.Wait()
		if errors.Is(err, context.Canceled) {
			err = nil
		}
		return errors.Join(err, failed)
	})
	if err != nil || final == nil {
		return err
	}
	return p.writeSweeps("table", []api.Sweep{*final}, *final)
}

// latest takes a sighting in place of what was told of the same before, and keeps so many.
func latest(seen []api.Sighting, s api.Sighting, most int) []api.Sighting {
	kept := seen[:0:0]
	for _, old := range seen {
		if old.Addr != s.Addr || old.MAC != s.MAC || old.Unit != s.Unit {
			kept = append(kept, old)
		}
	}
	kept = append(kept, s)
	return kept[max(0, len(kept)-max(1, most)):]
}
