package command

import (
	"context"
	"strings"

	"github.com/urfave/cli/v3"

	"airdrift/api"
)

// savedCommand is a command for filters of one kind that are saved under names.
func (p Program) savedCommand(kind, usage, save, examples string, flags ...cli.Flag) *cli.Command {
	name := kind + "s"
	return &cli.Command{
		Name: name, Usage: usage, Description: "Examples: " + examples,
		Action: func(ctx context.Context, c *cli.Command) error {
			cl, site, err := connectSite(ctx, c)
			if err != nil {
				return err
			}
			views, err := cl.Views(ctx, site.ID, kind)
			if err != nil {
				return err
			}
			return write(p.Out, c.String("output"), viewsGrid(views), views)
		},
		Commands: []*cli.Command{
			{
				Name: "save", Usage: save, ArgsUsage: "NAME",
				Flags: append([]cli.Flag{&cli.StringFlag{Name: "filter", Usage: "which devices, as a `QUERY` such as kind=printer&network=offices; the console's address has one", Required: true}}, flags...),
				Action: func(ctx context.Context, c *cli.Command) error {
					return p.saveView(ctx, c, kind)
				},
			},
			{
				Name: "delete", Usage: "delete one; the devices stay as they are", ArgsUsage: "NAME",
				Action: func(ctx context.Context, c *cli.Command) error {
					cl, site, err := connectSite(ctx, c)
					if err != nil {
						return err
					}
					if c.Args().First() == "" {
						return wrongUse("say which: airdrift %s lists them", name)
					}
					return cl.DeleteView(ctx, site.ID, kind, c.Args().First())
				},
			},
		},
	}
}

func (p Program) saveView(ctx context.Context, c *cli.Command, kind string) error {
	if c.Args().First() == "" {
		return wrongUse("give it a name")
	}
	cl, site, err := connectSite(ctx, c)
	if err != nil {
		return err
	}
	view := api.SavedView{Filter: c.String("filter"), Audience: c.String("for")}
	if text := c.String("columns"); text != "" {
		view.Columns = strings.Split(text, ",")
	}
	return cl.SaveView(ctx, site.ID, kind, c.Args().First(), view)
}

func (p Program) viewsCommand() *cli.Command {
	return p.savedCommand("view", "filters of devices that are saved under a name, with their columns", "save a filter under a name",
		"airdrift views, airdrift views save 'hall printers' --filter 'kind=printer&network=offices' --columns name,address,firmware,\nairdrift devices --view 'hall printers', airdrift views delete 'hall printers'",
		&cli.StringFlag{Name: "columns", Usage: "`COLUMNS` that are shown, separated by commas"})
}

func (p Program) groupsCommand() *cli.Command {
	return p.savedCommand("group", "groups that are filled by a filter; by hand: airdrift devices act group", "have a group filled by a filter, whichever devices that lets through",
		"airdrift groups, airdrift groups save 'stage' --filter 'network=plant&kind=stage-node', airdrift devices --group stage,\nairdrift devices act group --text 'second floor' hall-printer")
}

func viewsGrid(views []api.View) grid {
	g := grid{headings: []string{"Name", "Devices", "Filter", "Columns", "For|audience", "Changed by|changedBy", "At|changedAt", "Fault"}}
	for _, v := range views {
		g.add(v.Name, v.Devices, v.Filter, strings.Join(v.Columns, ", "), v.Audience, v.ChangedBy, at(v.ChangedAt), v.Fault)
	}
	return g
}
