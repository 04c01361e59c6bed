package command

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"airdrift/api"
	"airdrift/client"
)

func (p Program) sweepsCommand() *cli.Command {
	return &cli.Command{
		Name:  "sweeps",
		Usage: "the sweeps of a site: list, show, log, stop, continue, discard, reevaluate",
		Description: "Without a command the sweeps are listed, the newest first.\n" +
			"Examples: airdrift sweeps show 4, airdrift sweeps log 4, airdrift sweeps continue 4, airdrift sweeps discard 4",
		Action: func(ctx context.Context, c *cli.Command) error {
			return p.listSweeps(ctx, c)
		},
		Commands: append([]*cli.Command{
			{Name: "list", Usage: "list the sweeps, the newest first", Action: p.listSweeps},
			{Name: "show", Usage: "what a sweep saw", ArgsUsage: "SWEEP", Flags: []cli.Flag{watchFlag()}, Action: p.onSweep(p.showSweep)},
			{Name: "log", Usage: "what happened in a sweep, and when", ArgsUsage: "SWEEP", Action: p.onSweep(p.showLog)},
			{Name: "stop", Usage: "stop a sweep that runs; what was seen is kept", ArgsUsage: "SWEEP", Action: p.onSweep(
				func(ctx context.Context, c *cli.Command, cl *client.Client, id uint64) error {
					stopped, err := cl.StopSweep(ctx, id)
					if err != nil {
						return err
					}
					return p.writeSweeps(c.String("output"), []api.Sweep{stopped}, stopped)
				})},
			{Name: "continue", Usage: "resume a sweep that was stopped or interrupted", ArgsUsage: "SWEEP", Action: p.onSweep(
				func(ctx context.Context, c *cli.Command, cl *client.Client, id uint64) error {
					startCtx, cancel := unbroken(ctx)
					defer cancel()
					started, err := cl.ContinueSweep(startCtx, id)
					if err != nil {
						return err
					}
					return p.watchToEnd(ctx, c, cl, started)
				})},
			{Name: "discard", Usage: "remove a sweep and all that only it brought", ArgsUsage: "SWEEP", Action: p.onSweep(
				func(ctx context.Context, _ *cli.Command, cl *client.Client, id uint64) error {
					if err := cl.DiscardSweep(ctx, id); err != nil {
						return err
					}
					fmt.Fprintf(p.Err, "Sweep %d is discarded.\n", id)
					return nil
				})},
			p.exportSweeps(), p.importSweeps(), p.compareSweeps(),
			{Name: "name", Usage: "name a sweep, or take its name away where no other is given", ArgsUsage: "SWEEP [NAME]", Action: func(ctx context.Context, c *cli.Command) error {
				id, err := strconv.ParseUint(c.Args().First(), 10, 64)
				if c.Args().Len() < 1 || c.Args().Len() > 2 || err != nil {
					return wrongUse("want the number of one sweep and a name: airdrift sweeps name 4 'after the power cut'")
				}
				cl, err := connect(c)
				if err != nil {
					return err
				}
				return cl.NameSweep(ctx, id, c.Args().Get(1))
			}},
			{Name: "reevaluate", Usage: "re-evaluate all stored evidence of the site, with no packet sent", Action: func(ctx context.Context, c *cli.Command) error {
				cl, site, err := connectSite(ctx, c)
				if err != nil {
					return err
				}
				if err := cl.Reread(ctx, site.ID); err != nil {
					return err
				}
				fmt.Fprintln(p.Err, "The evidence is re-evaluated.")
				return nil
			}},
		}, p.keepingCommands()...),
	}
}

// onSweep makes an action on the sweep that the only argument names.
func (p Program) onSweep(act func(ctx context.Context, c *cli.Command, cl *client.Client, id uint64) error) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		id, err := strconv.ParseUint(c.Args().First(), 10, 64)
		if c.Args().Len() != 1 || err != nil {
			return wrongUse("want the number of one sweep: airdrift sweeps lists them")
		}
		cl, err := connect(c)
		if err != nil {
			return err
		}
		return act(ctx, c, cl, id)
	}
}

func (p Program) listSweeps(ctx context.Context, c *cli.Command) error {
	cl, site, err := connectSite(ctx, c)
	if err != nil {
		return err
	}
	list, err := cl.Sweeps(ctx, site.ID)
	if err != nil {
		return err
	}
	return p.writeSweeps(c.String("output"), list, list)
}

func (p Program) showSweep(ctx context.Context, c *cli.Command, cl *client.Client, id uint64) error {
	if c.Bool("watch") {
		return p.watchSweep(ctx, cl, id)
	}
	list, err := cl.Sightings(ctx, id)
	if err != nil {
		return err
	}
	return write(p.Out, c.String("output"), sightingsGrid(list), list)
}

func sightingsGrid(list []api.Sighting) grid {
	g := grid{headings: []string{"Address|addr", "MAC", "Kind", "Vendor", "Name", "Ports"}}
	for _, s := range list {
		ports := make([]string, len(s.Ports))
		for i, port := range s.Ports {
			ports[i] = strings.TrimPrefix(port.Port, "tcp/")
		}
		g.add(s.Addr, s.MAC, s.Kind, s.Vendor, s.Name, strings.Join(ports, " "))
	}
	return g
}

func (p Program) showLog(ctx context.Context, c *cli.Command, cl *client.Client, id uint64) error {
	lines, err := cl.SweepLog(ctx, id)
	if err != nil {
		return err
	}
	g := grid{headings: []string{"At", "What|text"}}
	for _, l := range lines {
		g.add(atSecond(l.At), l.Text)
	}
	return write(p.Out, c.String("output"), g, lines)
}
