package command

import (
	"context"
	"fmt"
	"io"
	"math"
	"strings"

	"github.com/urfave/cli/v3"

	"airdrift/api"
)

func (p Program) completeCommand() *cli.Command {
	return &cli.Command{
		Name: "complete", Usage: "how many devices were missed, estimated from how far the ways of looking agree, and what would make it surer",
		Description: "Examples: airdrift complete, airdrift complete --sweep 4, airdrift --output json complete",
		Flags: []cli.Flag{
			&cli.Uint64Flag{Name: "sweep", Usage: "of the sweep of this `NUMBER`; of each network the latest that looked through it where left out"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			cl, site, err := connectSite(ctx, c)
			if err != nil {
				return err
			}
			figures, err := cl.Completeness(ctx, site.ID, c.Uint64("sweep"))
			if err != nil {
				return err
			}
			form := c.String("output")
			if err := write(p.Out, form, completenessGrid(figures), figures); err != nil || form != "table" {
				return err
			}
			adviseOn(p.Out, figures)
			return nil
		},
	}
}

func completenessGrid(figures api.Completeness) grid {
	g := grid{headings: []string{"Network", "Subnet", "Sweep", "Seen", "Missed|missed", "From|low", "To|high", "Seen by|ways"}}
	row := func(f api.CompletenessFigure, name string) {
		missed, low, high := any("?"), any("?"), any("?")
		if f.Told {
			missed, low, high = f.Missed, math.Floor(f.Low), math.Ceil(f.High)
		}
		var ways []string
		for _, w := range f.Ways {
			ways = append(ways, fmt.Sprintf("%s %d", w.Way, w.Devices))
		}
		sweep := any("")
		if f.Sweep != 0 {
			sweep = f.Sweep
		}
		g.add(name, f.Subnet, sweep, f.Seen, missed, low, high, strings.Join(ways, ", "))
	}
	for _, f := range figures.Networks {
		row(f, f.Network)
	}
	if len(figures.Networks) > 1 {
		row(figures.Site, "all together")
	}
	return g
}

// adviseOn says below the table what would make the figures surer, and what they rest on.
func adviseOn(w io.Writer, figures api.Completeness) {
	var advice []string
	of := map[string][]string{}
	for _, f := range figures.Networks {
		for _, one := range f.Advice {
			if of[one] == nil {
				advice = append(advice, one)
			}
			of[one] = append(of[one], visible(f.Network, false))
		}
	}
	for _, one := range advice {
		fmt.Fprintf(w, "\n%s:\n  %s\n", strings.Join(of[one], ", "), one)
	}
	for _, name := range figures.Unswept {
		fmt.Fprintf(w, "\n%s\n  No sweep has looked through it to its end.\n", visible(name, false))
	}
	fmt.Fprintln(w, "\nFrom and to hold the truth in nine of ten cases, where this is so:")
	for _, a := range figures.Assumptions {
		fmt.Fprintf(w, "  %s\n", a)
	}
}
