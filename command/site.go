package command

import (
	"context"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"airdrift/api"
)

func (p Program) siteCommand() *cli.Command {
	return &cli.Command{
		Name:  "site",
		Usage: "the sites there are",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list all sites",
				Action: func(ctx context.Context, c *cli.Command) error {
					cl, err := connect(c)
					if err != nil {
						return err
					}
					sites, err := cl.Sites(ctx)
					if err != nil {
						return err
					}
					return p.writeSites(c, sites, sites)
				},
			},
			{
				Name: "add", Usage: "enter a site", ArgsUsage: "NAME",
				Description: "Example: airdrift site add Fernhollow --network offices=10.40.1.0/24 --network plant=10.40.2.0/24",
				Flags:       []cli.Flag{networkFlag()},
				Action: func(ctx context.Context, c *cli.Command) error {
					if c.Args().Len() != 1 {
						return wrongUse("want one name: airdrift site add NAME --network 10.40.1.0/24")
					}
					cl, err := connect(c)
					if err != nil {
						return err
					}
					site, err := cl.CreateSite(ctx, api.NewSite{Name: c.Args().First(), Networks: networksOf(c)})
					if err != nil {
						return err
					}
					return p.writeSites(c, []api.Site{site}, site)
				},
			},
		},
	}
}

func networkFlag() cli.Flag {
	return &cli.StringSliceFlag{Name: "network", Usage: "`SUBNET` of the site, with a name before it if wanted: plant=10.40.2.0/24; may be given again"}
}

func networksOf(c *cli.Command) []api.Network {
	networks := []api.Network{}
	for _, text := range c.StringSlice("network") {
		networks = append(networks, readNetwork(text))
	}
	return networks
}

func (p Program) writeSites(c *cli.Command, sites []api.Site, value any) error {
	g := grid{headings: []string{"No", "Site", "Networks"}}
	for _, s := range sites {
		networks := make([]string, len(s.Networks))
		for i, n := range s.Networks {
			networks[i] = strings.TrimSpace(n.Name + " " + n.Subnet)
		}
		g.add(strconv.FormatUint(s.ID, 10), s.Name, strings.Join(networks, ", "))
	}
	return write(p.Out, c.String("output"), g, value)
}
