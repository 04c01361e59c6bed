package command

import (
	"context"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"airdrift/api"
	"airdrift/client"
)

func (p Program) fenceCommand() *cli.Command {
	return &cli.Command{
		Name:  "fence",
		Usage: "where a site may be swept; nothing outside is ever sent a packet",
		Description: "Without a command the fence is shown: its networks, how many addresses devices hold there, and the next free one.\n" +
			"Examples: airdrift fence add plant=10.40.2.0/24, airdrift fence remove 10.40.2.0/24, airdrift fence names 10.40.1.10",
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return wrongUse("there is no command fence %s: there are add, remove and names", c.Args().First())
			}
			cl, site, err := connectSite(ctx, c)
			if err != nil {
				return err
			}
			return p.showFence(ctx, c, cl, site.ID)
		},
		Commands: []*cli.Command{
			p.fenceChange("add", "widen the fence by networks, with a name before each if wanted", "[NAME=]SUBNET ...",
				func(ctx context.Context, cl *client.Client, site uint64, text string) error {
					_, err := cl.AddNetwork(ctx, site, readNetwork(text))
					return err
				}),
			p.fenceChange("remove", "take networks out of the fence; what was seen there stays", "SUBNET ...",
				func(ctx context.Context, cl *client.Client, site uint64, text string) error {
					_, err := cl.RemoveNetwork(ctx, site, text)
					return err
				}),
			{
				Name: "names", Usage: "say which name servers the site has; without any, those of the machine are asked", ArgsUsage: "[ADDRESS ...]",
				Action: func(ctx context.Context, c *cli.Command) error {
					cl, site, err := connectSite(ctx, c)
					if err != nil {
						return err
					}
					if _, err := cl.SetNameServers(ctx, site.ID, append([]string{}, c.Args().Slice()...)); err != nil {
						return err
					}
					return p.showFence(ctx, c, cl, site.ID)
				},
			},
		},
	}
}

// fenceChange makes a command that does one thing for each of its arguments and then shows the fence.
func (p Program) fenceChange(name, usage, args string, change func(ctx context.Context, cl *client.Client, site uint64, text string) error) *cli.Command {
	return &cli.Command{
		Name: name, Usage: usage, ArgsUsage: args,
		Action: func(ctx context.Context, c *cli.Command) error {
			if !c.Args().Present() {
				return wrongUse("want at least one network, such as 10.40.2.0/24")
			}
			cl, site, err := connectSite(ctx, c)
			if err != nil {
				return err
			}
			for _, text := range c.Args().Slice() {
				if err := change(ctx, cl, site.ID, text); err != nil {
					return err
				}
			}
			return p.showFence(ctx, c, cl, site.ID)
		},
	}
}

func (p Program) showFence(ctx context.Context, c *cli.Command, cl *client.Client, site uint64) error {
	fence, err := cl.Fence(ctx, site)
	if err != nil {
		return err
	}
	g := grid{headings: []string{"Network", "Subnet", "Addresses", "Held", "Next free"}}
	for _, n := range fence.Networks {
		g.add(n.Name, n.Subnet, n.Addresses, strconv.Itoa(n.Held), n.NextFree)
	}
	if err := write(p.Out, c.String("output"), g, fence); err != nil || c.String("output") != "table" {
		return err
	}
	out := &paragraphs{w: p.Out}
	out.pair("Name servers", strings.Join(fence.NameServers, ", "))
	out.pair("Public", strings.Join(fence.Public, ", "))
	return out.err
}

// readNetwork reads a subnet with or without a name before it.
func readNetwork(text string) api.Network {
	name, subnet, named := strings.Cut(text, "=")
	if !named {
		name, subnet = "", text
	}
	return api.Network{Name: name, Subnet: subnet}
}
