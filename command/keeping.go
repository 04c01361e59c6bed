package command

import (
	"context"
	"fmt"
	"strconv"

	"github.com/urfave/cli/v3"

	"airdrift/client"
)

// keepingCommands are those of sweeps that say which evidence stays.
func (p Program) keepingCommands() []*cli.Command {
	pin := func(pinned bool) cli.ActionFunc {
		return p.onSweep(func(ctx context.Context, _ *cli.Command, cl *client.Client, id uint64) error {
			return cl.PinSweep(ctx, id, pinned)
		})
	}
	return []*cli.Command{
		{Name: "pin", Usage: "let the evidence of a sweep stay, whatever the site keeps", ArgsUsage: "SWEEP", Action: pin(true)},
		{Name: "unpin", Usage: "take that back", ArgsUsage: "SWEEP", Action: pin(false)},
		{
			Name: "thin", Usage: "delete the evidence now that the site no longer keeps; with --preview only name the sweeps",
			Flags: []cli.Flag{&cli.BoolFlag{Name: "preview", Usage: "only show whose evidence would go"}},
			Action: func(ctx context.Context, c *cli.Command) error {
				cl, site, err := connectSite(ctx, c)
				if err != nil {
					return err
				}
				gone := cl.Thin
				if c.Bool("preview") {
					gone = cl.Due
				}
				sweeps, err := gone(ctx, site.ID)
				if err != nil {
					return err
				}
				g := grid{headings: []string{"Sweep"}}
				for _, id := range sweeps {
					g.add(strconv.FormatUint(id, 10))
				}
				if len(sweeps) == 0 {
					fmt.Fprintln(p.Err, "There is no evidence that the site does not keep.")
				}
				return write(p.Out, c.String("output"), g, sweeps)
			},
		},
	}
}
