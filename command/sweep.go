package command

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"airdrift/api"
	"airdrift/client"
	"airdrift/core/netrange"
	"airdrift/core/sweep"
)

func (p Program) sweepCommand() *cli.Command {
	return &cli.Command{
		Name:      "sweep",
		Usage:     "look through ranges of a site's networks",
		ArgsUsage: "[RANGE ...]",
		Description: "A RANGE is an address, a CIDR prefix, a from-to pair or a short one: 10.40.1.9, 10.40.1.0/24,\n" +
			"10.40.1.20-10.40.1.80, 10.40.1.20-80. Without any, all networks of the site are swept.\n" +
			"Ctrl-C stops the sweep; what was seen is kept, and airdrift sweeps continue resumes it.\n" +
			"Examples: airdrift sweep --pace gentle 10.40.2.0/24 --except 10.40.2.13, airdrift sweep --file ranges.txt --ports usual",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "name", Usage: "`NAME` of the sweep, for people"},
			&cli.StringFlag{Name: "vantage", Usage: "`INTERFACE` to sweep from; may be left out where there is only one"},
			&cli.StringSliceFlag{Name: "except", Usage: "`RANGE` to leave out; may be given again"},
			&cli.StringFlag{Name: "file", Usage: "`FILE` with ranges, one or several a line, and comments after #; - reads standard input"},
			&cli.StringFlag{Name: "pace", Usage: "how hard to push: gentle for old controllers, steady, brisk, or own figures such as rate=50,broadcasts=20,devices=4,per-device=1,per-network=32,rounds=3,gap=100", Value: "steady"},
			&cli.StringSliceFlag{Name: "leave-out", Usage: "`PROTOCOL`, or part of one such as snmp.default-community, that is not used; may be given again. airdrift protocols lists them"},
			&cli.StringSliceFlag{Name: "never", Usage: "`PORT` that is never sent anything; may be given again"},
			&cli.StringSliceFlag{Name: "pace-for", Usage: "pace for a part of the ranges, such as `gentle=10.40.3.0/24`; may be given again"},
			&cli.IntFlag{Name: "patience-sweeps", Usage: "a device has vanished when so `MANY` sweeps in a row have missed it, and ..."},
			&cli.IntFlag{Name: "patience-days", Usage: "... so `MANY` days have passed since it was seen"},
			&cli.BoolFlag{Name: "read", Usage: "count how much systems offer, such as the objects of BACnet controllers, once all have been asked"},
			&cli.StringSliceFlag{Name: "quiet", Usage: "`HOURS` of each day in which nothing is sent, such as 07:00-18:30; may be given again"},
			&cli.StringFlag{Name: "waits", Usage: "how long answers are waited for, in milliseconds, such as `first=1000,least=300,most=4000,last=2000`"},
			&cli.StringFlag{Name: "ports", Usage: "TCP `PORTS` to ask: telling, usual (some 200), all, or a list such as 22,80,8000-8100", Value: "telling"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			cl, site, err := connectSite(ctx, c)
			if err != nil {
				return err
			}
			wanted := api.NewSweep{
				Name: c.String("name"), Vantage: c.String("vantage"), Ranges: strings.Join(c.Args().Slice(), ","),
				Exclusions: strings.Join(c.StringSlice("except"), ","), Ports: c.String("ports"),
			}
			if wanted.Pace, wanted.Figures, err = readPace(c.String("pace")); err != nil {
				return err
			}
			if wanted.Plan, err = readPlan(c); err != nil {
				return err
			}
			if path := c.String("file"); path != "" {
				ranges, err := p.readRanges(path)
				if err != nil {
					return err
				}
				wanted.Ranges = strings.Trim(wanted.Ranges+","+ranges, ",")
			}
			started, err := startSweep(ctx, cl, site.ID, wanted)
			if err != nil {
				return err
			}
			return p.watchToEnd(ctx, c, cl, started)
		},
	}
}

// watchToEnd shows a sweep's progress, and how it ended.
func (p Program) watchToEnd(ctx context.Context, c *cli.Command, cl *client.Client, started api.Sweep) error {
	ended, err := p.watch(ctx, cl, started)
	if err != nil {
		return err
	}
	if err := p.writeSweeps(c.String("output"), []api.Sweep{ended}, ended); err != nil {
		return err
	}
	switch ended.State {
	case "failed":
		return fmt.Errorf("sweep %d failed: %s", ended.ID, ended.Failure)
	case "stopped", "interrupted":
		return &unfinishedError{ended}
	}
	return nil
}

// unfinishedError says that a sweep has ended before it was through.
type unfinishedError struct{ sweep api.Sweep }

func (e *unfinishedError) Error() string {
	return fmt.Sprintf("sweep %d was %s before its end: airdrift sweeps continue %d resumes it", e.sweep.ID, e.sweep.State, e.sweep.ID)
}

// readRanges reads a list of ranges from a file, so that a fault is told with its line before anything is sent.
func (p Program) readRanges(path string) (string, error) {
	file, err := p.openFile(path)
	if err != nil {
		return "", err
	}
	defer file.Close()
	text, err := io.ReadAll(io.LimitReader(file, maxRangeFile))
	if err != nil {
		return "", err
	}
	set, err := netrange.ParseFile(string(text))
	if err != nil {
		return "", wrongUse("%s: %v", path, err)
	}
	return set.String(), nil
}

// maxRangeFile bounds a file of ranges, in bytes.
const maxRangeFile = 16 << 20

// readPace reads the name of a pace, or figures of one's own; those left out are of the steady pace.
func readPace(text string) (name string, figures *api.Pace, err error) {
	if !strings.Contains(text, "=") {
		return text, nil, nil
	}
	s := sweep.Steady
	own := api.Pace{Rate: s.Rate, Devices: s.Devices, PerDevice: s.PerDevice, PerNetwork: s.PerNetwork, Rounds: s.Rounds, Gap: int(s.Gap.Milliseconds())}
	whole := map[string]*int{"devices": &own.Devices, "per-device": &own.PerDevice, "per-network": &own.PerNetwork, "rounds": &own.Rounds, "gap": &own.Gap}
	parts := map[string]*float64{"rate": &own.Rate, "broadcasts": &own.Broadcasts}
	for part := range strings.SplitSeq(text, ",") {
		key, value, _ := strings.Cut(strings.TrimSpace(part), "=")
		n, err := strconv.ParseFloat(value, 64)
		target := whole[key]
		switch {
		case err != nil || target == nil && parts[key] == nil || target != nil && n != float64(int(n)):
			return "", nil, wrongUse("%q is no figure of a pace: want rate, broadcasts, devices, per-device, per-network, rounds and gap (in milliseconds), such as rate=50,per-device=1", part)
		case target == nil:
			*parts[key] = n
		default:
			*target = int(n)
		}
	}
	return "own", &own, nil
}

// sweepAndWatch starts a sweep and shows its progress until it is over. When ctx ends the sweep is stopped.
func (p Program) sweepAndWatch(ctx context.Context, cl *client.Client, site uint64, wanted api.NewSweep) (api.Sweep, error) {
	started, err := startSweep(ctx, cl, site, wanted)
	if err != nil {
		return started, err
	}
	return p.watch(ctx, cl, started)
}

// startSweep starts a sweep. An interrupt in the middle of that waits for the answer: a sweep whose number is not known
// could not be stopped.
func startSweep(ctx context.Context, cl *client.Client, site uint64, wanted api.NewSweep) (api.Sweep, error) {
	startCtx, cancel := unbroken(ctx)
	defer cancel()
	return cl.StartSweep(startCtx, site, wanted)
}

// unbroken gives a context for what must be finished although somebody has pressed Ctrl-C.
func unbroken(ctx context.Context) (context.Context, context.CancelFunc) {
	return context.WithTimeout(context.WithoutCancel(ctx), time.Minute)
}

// watch shows a sweep's progress until it is over. When ctx ends the sweep is stopped.
func (p Program) watch(ctx context.Context, cl *client.Client, started api.Sweep) (api.Sweep, error) {
	line := newProgressLine(p.Err)
	defer line.end()
	var told []string
	tell := func(warning string) {
		if !slices.Contains(told, warning) {
			told = append(told, warning)
			line.say("Note: " + warning)
		}
	}
	ended, err := cl.Watch(ctx, started.ID, client.Watcher{
		Progress: line.progress,
		Warning:  func(w api.Warning) { tell(w.Text) },
	})
	if ctx.Err() == nil || !errors.Is(err, ctx.Err()) {
		for _, warning := range ended.Warnings { // that came before somebody looked, or while the connection was lost
			tell(warning)
		}
		return ended, err
	}
	line.say("Stopping; what was seen is kept.")
	stopCtx, cancel := unbroken(ctx)
	defer cancel()
	return cl.StopSweep(stopCtx, started.ID)
}

func (p Program) writeSweeps(form string, list []api.Sweep, value any) error {
	g := grid{headings: []string{"Sweep|id", "Name", "State", "Began", "Vantage", "Ranges", "Pace", "Addresses", "Answered", "Questions|sent", "Took|seconds", "Appeared", "Vanished", "Moved"}}
	number := func(n uint64) string { return strconv.FormatUint(n, 10) }
	for _, s := range list {
		took := cell{}
		if s.Ended != nil {
			took = cell{s.Ended.Sub(s.Began).Round(100 * time.Millisecond).String(), strconv.FormatFloat(s.Ended.Sub(s.Began).Seconds(), 'f', 1, 64)}
		}
		g.add(number(s.ID), s.Name, s.State, at(&s.Began), s.Vantage, s.Ranges, s.Pace, number(s.Addresses), number(s.Answered), number(s.Sent), took,
			strconv.Itoa(s.Appeared), strconv.Itoa(s.Vanished), strconv.Itoa(s.Moved))
	}
	return write(p.Out, form, g, value)
}
