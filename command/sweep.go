package command

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"airdrift/api"
	"airdrift/client"
)

func (p Program) sweepCommand() *cli.Command {
	return &cli.Command{
		Name:      "sweep",
		Usage:     "look through ranges of a site's networks",
		ArgsUsage: "[RANGE ...]",
		Description: "A RANGE is an address, a CIDR prefix, a from-to pair or a short one: 10.40.1.9, 10.40.1.0/24,\n" +
			"10.40.1.20-10.40.1.80, 10.40.1.20-80. Without any, all networks of the site are swept.\n" +
			"Ctrl-C stops the sweep; what was seen is kept.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "vantage", Usage: "`INTERFACE` to sweep from; may be left out where there is only one"},
			&cli.StringSliceFlag{Name: "except", Usage: "`RANGE` to leave out; may be given again"},
			&cli.StringFlag{Name: "pace", Usage: "how hard to push: gentle for old controllers, steady, or brisk", Value: "steady"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			cl, site, err := connectSite(ctx, c)
			if err != nil {
				return err
			}
			sweep, err := p.sweepAndWatch(ctx, cl, site.ID, api.NewSweep{
				Vantage: c.String("vantage"), Ranges: strings.Join(c.Args().Slice(), ","),
				Exclusions: strings.Join(c.StringSlice("except"), ","), Pace: c.String("pace"),
			})
			if err != nil {
				return err
			}
			if err := p.writeSweep(c.String("output"), sweep); err != nil {
				return err
			}
			if sweep.State == "failed" {
				return fmt.Errorf("sweep %d failed: %s", sweep.ID, sweep.Failure)
			}
			return nil
		},
	}
}

// sweepAndWatch starts a sweep and shows its progress until it is over. When ctx ends the sweep is stopped.
func (p Program) sweepAndWatch(ctx context.Context, cl *client.Client, site uint64, wanted api.NewSweep) (api.Sweep, error) {
	started, err := cl.StartSweep(ctx, site, wanted)
	if err != nil {
		return started, err
	}
	line := newProgressLine(p.Err)
	defer line.end()
	ended, err := cl.Watch(ctx, started.ID, client.Watcher{
		Progress: line.progress,
		Warning:  func(w api.Warning) { line.say("Note: " + w.Text) },
	})
	if ctx.Err() == nil || !errors.Is(err, ctx.Err()) {
		return ended, err
	}
	line.say("Stopping; what was seen is kept.")
	// The interrupt ended ctx; the stop needs one of its own.
	stopCtx, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Minute)
	defer cancel()
	return cl.StopSweep(stopCtx, started.ID)
}

func (p Program) writeSweep(form string, s api.Sweep) error {
	g := grid{headings: []string{"Sweep", "State", "Vantage", "Ranges", "Addresses", "Answered", "Questions", "Took", "Appeared", "Vanished", "Moved"}}
	took := ""
	if s.Ended != nil {
		took = s.Ended.Sub(s.Began).Round(100 * time.Millisecond).String()
	}
	number := func(n uint64) string { return strconv.FormatUint(n, 10) }
	g.add(number(s.ID), s.State, s.Vantage, s.Ranges, number(s.Addresses), number(s.Answered), number(s.Sent), took,
		strconv.Itoa(s.Appeared), strconv.Itoa(s.Vanished), strconv.Itoa(s.Moved))
	return write(p.Out, form, g, s)
}
