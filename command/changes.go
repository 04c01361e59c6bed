package command

import (
	"context"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"airdrift/api"
	"airdrift/client"
	"airdrift/core/inventory"
)

func (p Program) changesCommand() *cli.Command {
	return &cli.Command{
		Name: "changes", Usage: "what sweeps have found changed: devices that appeared, vanished, moved or changed, the newest first",
		Description: "Examples: airdrift changes --sweep 4, airdrift changes --since 2026-11-02 --kind vanished, airdrift changes --device 10.40.1.83 --attribute firmware",
		Flags: []cli.Flag{
			&cli.Uint64Flag{Name: "sweep", Usage: "only what the sweep of this `NUMBER` has found"},
			&cli.StringFlag{Name: "device", Usage: "only of this `DEVICE`: its number, address, MAC address or name"},
			&cli.StringSliceFlag{Name: "kind", Usage: "only this `KIND`: appeared, vanished, moved, changed (several, or separated by commas)"},
			&cli.StringSliceFlag{Name: "attribute", Usage: "only changes of this `ATTRIBUTE`: " + strings.Join(inventory.Changing(), ", ")},
			&cli.StringFlag{Name: "since", Usage: "only of sweeps that began on this `DAY` or later, such as 2026-11-02"},
			&cli.StringFlag{Name: "until", Usage: "only of sweeps that began before this `DAY`"},
			&cli.IntFlag{Name: "limit", Usage: "at most so `MANY`; all where left out"},
		},
		Action: p.changes,
	}
}

func (p Program) changes(ctx context.Context, c *cli.Command) error {
	cl, site, err := connectSite(ctx, c)
	if err != nil {
		return err
	}
	query := client.ChangeQuery{Sweep: c.Uint64("sweep"), Kinds: c.StringSlice("kind"), Attributes: c.StringSlice("attribute")}
	for name, at := range map[string]*time.Time{"since": &query.Since, "until": &query.Until} {
		if text := c.String(name); text != "" {
			if *at, err = time.ParseInLocation(time.DateOnly, text, time.Local); err != nil {
				return wrongUse("--%s: %q is no day such as 2026-11-02", name, text)
			}
		}
	}
	if wanted := c.String("device"); wanted != "" {
		if query.Device, err = findDevice(ctx, cl, c, wanted); err != nil {
			return err
		}
	}
	list, err := cl.Changes(ctx, site.ID, query, c.Int("limit"))
	if err != nil {
		return err
	}
	return write(p.Out, c.String("output"), changeGrid(list), list)
}

func (p Program) compareSweeps() *cli.Command {
	return &cli.Command{
		Name: "compare", Usage: "what another sweep has found that a sweep had not, whatever lies between them", ArgsUsage: "SWEEP OTHER",
		Action: func(ctx context.Context, c *cli.Command) error {
			var numbers [2]uint64
			for i := range numbers {
				id, err := strconv.ParseUint(c.Args().Get(i), 10, 64)
				if err != nil || c.Args().Len() != 2 {
					return wrongUse("want the numbers of two sweeps: airdrift sweeps compare 3 7")
				}
				numbers[i] = id
			}
			cl, err := connect(c)
			if err != nil {
				return err
			}
			list, err := cl.Compare(ctx, numbers[0], numbers[1])
			if err != nil {
				return err
			}
			return write(p.Out, c.String("output"), changeGrid(list), list)
		},
	}
}

func changeGrid(list []api.Change) grid {
	g := grid{headings: []string{"Sweep", "Began", "Device", "Address", "Name", "Change|what", "Before", "After"}}
	for _, change := range list {
		g.add(strconv.FormatUint(change.Sweep, 10), at(&change.Began), strconv.FormatUint(change.Device, 10), change.Addr, change.Name,
			changeText(change), change.Before, change.After)
	}
	return g
}

// changeText says in words what has changed.
func changeText(c api.Change) string {
	switch {
	case c.Attribute == "":
		return c.Kind
	case c.Attribute == "port" && c.Before == "":
		return "port opened"
	case c.Attribute == "port":
		return "port closed"
	case c.Attribute == "os", c.Attribute == "mac":
		return strings.ToUpper(c.Attribute)
	}
	return c.Attribute
}
