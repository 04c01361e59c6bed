package command

import (
	"context"
	"fmt"
	"io"
	"strconv"

	"github.com/urfave/cli/v3"

	"airdrift/api"
)

func (p Program) overviewCommand() *cli.Command {
	return &cli.Command{
		Name: "overview", Usage: "a site at a glance: how many devices, whose, of which kinds, and what needs a look",
		Description: "Examples: airdrift overview, airdrift --output csv overview (devices by kind), airdrift --output json overview",
		Action: func(ctx context.Context, c *cli.Command) error {
			cl, site, err := connectSite(ctx, c)
			if err != nil {
				return err
			}
			overview, err := cl.Overview(ctx, site.ID)
			if err != nil {
				return err
			}
			form := c.String("output")
			if form == "table" {
				summarise(p.Out, overview)
				fmt.Fprintln(p.Out)
			}
			return write(p.Out, form, kindsGrid(overview), overview)
		},
	}
}

// summarise tells in a few lines how many devices a site has, and what needs a look.
func summarise(w io.Writer, o api.Overview) {
	fmt.Fprintf(w, "\n%s\n", visible(o.Site.Name, false))
	switch s := o.LastSweep; {
	case s == nil:
		fmt.Fprintln(w, "  not swept yet: airdrift sweep")
	case s.Ended == nil:
		fmt.Fprintf(w, "  sweep %d by %s runs: %d of %d addresses answered so far\n", s.ID, visible(s.Vantage, false), s.Answered, s.Addresses)
	default:
		fmt.Fprintf(w, "  sweep %d by %s: %d of %d addresses answered, %d questions in %.1f s\n",
			s.ID, visible(s.Vantage, false), s.Answered, s.Addresses, s.Sent, s.Ended.Sub(s.Began).Seconds())
	}
	fmt.Fprintf(w, "  %d devices seen, %d of them of unknown kind, %d share an address with another\n", o.Seen, o.Unknown, o.Contested)
	fmt.Fprintf(w, "  register of %d: %d managed, %d missing; %d unmanaged, %d set aside\n", o.Register, o.Counts.Managed, o.Counts.Missing, o.Counts.Unmanaged, o.Counts.SetAside)
	for _, trait := range o.Traits {
		fmt.Fprintf(w, "  %s: %s\n", trait.Name, counted(trait.Devices, "device"))
	}
	for _, notice := range o.Notices {
		fmt.Fprintf(w, "  %s\n", visible(notice, false))
	}
}

// kindsGrid has the kinds of the devices seen, the most frequent first.
func kindsGrid(o api.Overview) grid {
	g := grid{headings: []string{"Kind", "Devices", "Unmanaged"}}
	for _, k := range o.Kinds {
		g.add(k.Kind, strconv.Itoa(k.Devices), strconv.Itoa(k.Unmanaged))
	}
	return g
}
