package command

import (
	"context"
	"fmt"
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
				Name: "add", Usage: "add a site", ArgsUsage: "NAME",
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
			{
				Name: "rename", Usage: "give the site another name", ArgsUsage: "NAME",
				Description: "Example: airdrift --site Fernhollow site rename \"Fernhollow gardens\"",
				Action: func(ctx context.Context, c *cli.Command) error {
					if c.Args().Len() != 1 {
						return wrongUse("want the new name: airdrift --site OLD site rename NEW")
					}
					cl, site, err := connectSite(ctx, c)
					if err != nil {
						return err
					}
					renamed, err := cl.RenameSite(ctx, site.ID, c.Args().First())
					if err != nil {
						return err
					}
					return p.writeSites(c, []api.Site{renamed}, renamed)
				},
			},
			{
				Name: "keep", Usage: "say for how long the evidence of sweeps is kept; without figures show it",
				Description: "All evidence is kept for --days; then that of one sweep a week for --weekly-days, and behind them of one a month. What is\n" +
					"pinned stays (airdrift sweeps pin), and so does the history of devices. Example: airdrift site keep --days 90 --weekly-days 400",
				Flags: []cli.Flag{
					&cli.IntFlag{Name: "days", Usage: "all of it for so many `DAYS`; 0 keeps it for good"},
					&cli.IntFlag{Name: "weekly-days", Usage: "then of one sweep a week up to so many `DAYS`"},
				},
				Action: func(ctx context.Context, c *cli.Command) error {
					cl, site, err := connectSite(ctx, c)
					if err != nil {
						return err
					}
					if c.IsSet("days") || c.IsSet("weekly-days") {
						if site, err = cl.SetKeeping(ctx, site.ID, api.Keeping{Days: c.Int("days"), WeeklyDays: c.Int("weekly-days")}); err != nil {
							return err
						}
					}
					g := grid{headings: []string{"Site", "All for days", "Weekly for days"}}
					g.add(site.Name, strconv.Itoa(site.Keeping.Days), strconv.Itoa(site.Keeping.WeeklyDays))
					return write(p.Out, c.String("output"), g, site.Keeping)
				},
			},
			{
				Name: "zone", Usage: "say which time zone the site is in; without a name show it", ArgsUsage: "[ZONE]",
				Description: "The console shows times in it; CSV and JSON are in UTC in any case. Example: airdrift site zone Europe/Lisbon",
				Action: func(ctx context.Context, c *cli.Command) error {
					cl, site, err := connectSite(ctx, c)
					if err != nil {
						return err
					}
					if c.Args().Present() {
						if site, err = cl.SetZone(ctx, site.ID, c.Args().First()); err != nil {
							return err
						}
					}
					g := grid{headings: []string{"Site", "Zone"}}
					g.add(site.Name, site.Zone)
					return write(p.Out, c.String("output"), g, api.Zone{Zone: site.Zone})
				},
			},
			{
				Name: "delete", Usage: "delete a site with all that was ever seen and said there", ArgsUsage: "NAME",
				Description: "The name has to be given in full. A backup beforehand (airdrift backup) brings it back.",
				Action: func(ctx context.Context, c *cli.Command) error {
					if c.Args().Len() != 1 {
						return wrongUse("want the name of the site that is to be deleted, in full")
					}
					cl, err := connect(c)
					if err != nil {
						return err
					}
					site, err := findSite(ctx, cl, c.Args().First())
					if err != nil {
						return err
					}
					if err := cl.DeleteSite(ctx, site.ID, c.Args().First()); err != nil {
						return err
					}
					fmt.Fprintln(p.Err, visible(fmt.Sprintf("The site %s is deleted.", site.Name), false))
					return nil
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
	g := grid{headings: []string{"No|id", "Site|name", "Networks"}}
	for _, s := range sites {
		networks := make([]string, len(s.Networks))
		for i, n := range s.Networks {
			networks[i] = strings.TrimSpace(n.Name + " " + n.Subnet)
		}
		g.add(strconv.FormatUint(s.ID, 10), s.Name, strings.Join(networks, ", "))
	}
	return write(p.Out, c.String("output"), g, value)
}
