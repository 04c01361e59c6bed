package command

import (
	"context"
	"strconv"
	"time"

	"github.com/urfave/cli/v3"

	"airdrift/api"
	"airdrift/client"
)

func (p Program) tenuresCommand() *cli.Command {
	return &cli.Command{
		Name: "tenures", Usage: "which device held which address and MAC address, from when to when, the latest first",
		Description: "Examples: airdrift tenures --address 10.40.1.83 --at '2026-11-24 14:00', airdrift tenures --mac 48:9b:34:03:30:14, airdrift tenures --device office-printer",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "address", Usage: "only of this IP `ADDRESS`"},
			&cli.StringFlag{Name: "mac", Usage: "only with this `MAC` address"},
			&cli.StringFlag{Name: "device", Usage: "only of this `DEVICE`: its number, address, MAC address or name"},
			&cli.StringFlag{Name: "at", Usage: "only those that lasted at this `TIME`, such as '2026-11-24 14:00'"},
			&cli.IntFlag{Name: "limit", Usage: "at most so `MANY`; all where left out"},
		},
		Action: p.tenures,
	}
}

func (p Program) tenures(ctx context.Context, c *cli.Command) error {
	cl, site, err := connectSite(ctx, c)
	if err != nil {
		return err
	}
	query := client.TenureQuery{Addr: c.String("address"), MAC: c.String("mac")}
	if text := c.String("at"); text != "" {
		if query.At, err = time.ParseInLocation("2006-01-02 15:04", text, time.Local); err != nil {
			return wrongUse("--at: %q is no time such as 2026-11-24 14:00", text)
		}
	}
	if wanted := c.String("device"); wanted != "" {
		if query.Device, err = findDevice(ctx, cl, c, wanted); err != nil {
			return err
		}
	}
	list, err := cl.Tenures(ctx, site.ID, query, c.Int("limit"))
	if err != nil {
		return err
	}
	return write(p.Out, c.String("output"), tenureGrid(list), list)
}

func tenureGrid(list []api.Tenure) grid {
	g := grid{headings: []string{"Device", "Name", "Address|addr", "MAC", "Since", "Until", "State", "Seen from|vantage"}}
	for _, t := range list {
		state := "held"
		if t.Ended {
			state = "left"
		}
		g.add(strconv.FormatUint(t.Device, 10), t.Name, t.Addr, t.MAC, at(&t.Since), at(&t.Until), state, t.Vantage)
	}
	return g
}
