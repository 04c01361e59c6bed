package command

import (
	"context"
	"fmt"
	"slices"
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
			"Examples: airdrift fence add plant=10.40.2.0/24, airdrift fence delete 10.40.2.0/24, airdrift fence names 10.40.1.10",
		Action: func(ctx context.Context, c *cli.Command) error {
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
			p.fenceChange("delete", "take networks out of the fence; what was seen there stays", "SUBNET ...",
				func(ctx context.Context, cl *client.Client, site uint64, text string) error {
					_, err := cl.RemoveNetwork(ctx, site, text)
					return err
				}),
			{
				Name: "set", Usage: "say what a network is for, its gateway and its pool, for the rules that judge the site", ArgsUsage: "SUBNET", Action: p.setNetwork,
				Description: "What is left out stays as it is. Example: airdrift fence set 10.40.1.0/24 --purpose offices --gateway 10.40.1.1 --pool 10.40.1.100-10.40.1.199",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "name", Usage: "`NAME` for people"},
					&cli.StringFlag{Name: "purpose", Usage: "`PURPOSE`: offices, visitors, plant, voice, cameras or servers"},
					&cli.StringFlag{Name: "gateway", Usage: "`ADDRESS` of its router"},
					&cli.StringFlag{Name: "pool", Usage: "`RANGES` that its DHCP server gives out"},
				},
			},
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
	g := grid{headings: []string{"Network", "Subnet", "Purpose", "Gateway", "Addresses", "Held", "Next free", "Pool"}}
	for _, n := range fence.Networks {
		g.add(n.Name, n.Subnet, n.Purpose, n.Gateway, n.Addresses, strconv.Itoa(n.Held), n.NextFree, n.Pool)
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

func (p Program) setNetwork(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() != 1 {
		return wrongUse("want the subnet of one network, such as 10.40.1.0/24")
	}
	cl, site, err := connectSite(ctx, c)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(site.Networks, func(n api.Network) bool { return n.Subnet == c.Args().First() })
	if at < 0 {
		return fmt.Errorf("the fence of %s has no network %s: airdrift fence lists them", site.Name, c.Args().First())
	}
	network := site.Networks[at]
	for name, to := range map[string]*string{"name": &network.Name, "purpose": &network.Purpose, "gateway": &network.Gateway, "pool": &network.Pool} {
		if c.IsSet(name) {
			*to = c.String(name)
		}
	}
	if _, err := cl.SetNetwork(ctx, site.ID, network); err != nil {
		return err
	}
	return p.showFence(ctx, c, cl, site.ID)
}
