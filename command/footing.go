package command

import (
	"context"
	"strings"

	"github.com/urfave/cli/v3"

	"airdrift/api"
)

func (p Program) footingCommand() *cli.Command {
	return &cli.Command{
		Name:      "footing",
		Usage:     "tell what this machine stands on: addresses, gateway, name servers, rights; and whether an address can be reached",
		ArgsUsage: "[ADDRESS]",
		Description: "With an ADDRESS it says for each interface whether that address lies in the same subnet, and if not why it\n" +
			"cannot be reached from here. Nothing is sent.\nExamples: airdrift footing, airdrift footing 10.40.2.13",
		Action: func(ctx context.Context, c *cli.Command) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			if address := c.Args().First(); address != "" {
				var site uint64
				if found, err := findSite(ctx, cl, c.String("site")); err == nil {
					site = found.ID
				} else if c.String("site") != "" {
					return err
				}
				list, err := cl.Reach(ctx, address, site)
				if err != nil {
					return err
				}
				return p.writeReach(c.String("output"), list)
			}
			list, err := cl.Vantages(ctx)
			if err != nil {
				return err
			}
			return p.writeFooting(c.String("output"), list)
		},
	}
}

func (p Program) writeReach(form string, list []api.Reach) error {
	if form == "table" { // a verdict is a sentence or two, and no cell of a table
		out := &paragraphs{w: p.Out}
		for _, r := range list {
			out.line("%s: %s", r.Vantage, r.Verdict)
		}
		return out.err
	}
	g := grid{headings: []string{"Vantage", "Same subnet", "By", "Verdict"}}
	for _, r := range list {
		g.add(r.Vantage, yesNo(r.OnLink), r.By, r.Verdict)
	}
	return write(p.Out, form, g, list)
}

func (p Program) writeFooting(form string, list []api.Vantage) error {
	g := grid{headings: []string{"Vantage", "Addresses", "Mask", "Gateway", "Name servers", "MAC", "Frames", "Echo", "Neighbours"}}
	for _, v := range list {
		g.add(v.Name, strings.Join(v.Prefixes, ", "), strings.Join(nonEmpty(v.Masks...), ", "), strings.Join(nonEmpty(v.Gateway, v.Gateway6), ", "), strings.Join(v.NameServers, ", "), v.MAC,
			yesNo(v.Rights.Frames), yesNo(v.Rights.Echo), yesNo(v.Rights.Neighbours))
	}
	if err := write(p.Out, form, g, list); err != nil || form != "table" {
		return err
	}
	out := &paragraphs{w: p.Out}
	for _, v := range list {
		for _, missing := range v.Rights.Missing {
			out.line("%s: %s", v.Name, missing)
		}
	}
	return out.err
}

func yesNo(yes bool) string {
	if yes {
		return "yes"
	}
	return "no"
}
