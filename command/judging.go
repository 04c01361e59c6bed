package command

import (
	"cmp"
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"airdrift/api"
	"airdrift/client"
)

func (p Program) timesCommand() *cli.Command {
	return &cli.Command{
		Name: "times", Usage: "how long devices took over their answers in one protocol, the slowest first",
		Description: "Examples: airdrift times --protocol bacnet, airdrift times --model 'Climate 900' --fastest --limit 5, airdrift times --device palm-house-climate, airdrift --output csv times --limit 10000",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "protocol", Usage: "in this `PROTOCOL`, such as bacnet, snmp or https; the one that most devices answered in where left out"},
			&cli.StringSliceFlag{Name: "kind", Usage: "only devices of this `KIND` (several, or separated by commas)"},
			&cli.StringSliceFlag{Name: "model", Usage: "only devices of this `MODEL`"},
			&cli.Uint64Flag{Name: "sweep", Usage: "as the sweep of this `NUMBER` saw it; the newest where left out"},
			&cli.StringFlag{Name: "device", Usage: "of this `DEVICE` alone, sweep by sweep: its number, address, MAC address or name"},
			&cli.BoolFlag{Name: "fastest", Usage: "the fastest first"},
			&cli.IntFlag{Name: "limit", Usage: "at most so `MANY`; all where left out"},
		},
		Action: p.times,
	}
}

func (p Program) times(ctx context.Context, c *cli.Command) error {
	cl, site, err := connectSite(ctx, c)
	if err != nil {
		return err
	}
	if wanted := c.String("device"); wanted != "" {
		device, err := findDevice(ctx, cl, c, wanted)
		if err != nil {
			return err
		}
		list, err := cl.DeviceTimes(ctx, device, c.Int("limit"))
		if err != nil {
			return err
		}
		return write(p.Out, c.String("output"), visitTimesGrid(list), list)
	}
	query := client.TimesQuery{Sweep: c.Uint64("sweep"), Protocol: c.String("protocol"), Kinds: c.StringSlice("kind"), Models: c.StringSlice("model"), Fastest: c.Bool("fastest")}
	times, err := cl.ResponseTimes(ctx, site.ID, query, c.Int("limit"))
	if err != nil {
		return err
	}
	if err := write(p.Out, c.String("output"), timesGrid(times), times); err != nil {
		return err
	}
	if c.String("output") == "table" {
		fmt.Fprintln(p.Err, timesNote(times))
	}
	return nil
}

// timesNote says what a table of times shows.
func timesNote(t api.ResponseTimes) string {
	if len(t.Protocols) == 0 {
		return "No sweep has timed any answers yet."
	}
	var others []string
	for _, p := range t.Protocols {
		if p.Protocol != t.Protocol {
			others = append(others, fmt.Sprintf("%s (%d)", p.Protocol, p.Devices))
		}
	}
	note := fmt.Sprintf("%s, %d of %s, in milliseconds, as sweep %d saw it from %s.", t.Protocol, len(t.Devices), counted(t.Total, "device"), t.Sweep, cmp.Or(t.Vantage, "an unknown place"))
	if len(others) > 0 {
		note += " Others: " + strings.Join(others, ", ") + "."
	}
	return note
}

func timesGrid(t api.ResponseTimes) grid {
	g := grid{headings: []string{"No|device", "Address|address", "Name", "Kind", "Model", "Answers", "Lost", "Median", "95 %|most", "Longest|worst"}}
	for _, d := range t.Devices {
		g.add(append([]any{d.Device, d.Addr, d.Name, d.Kind, d.Model}, timesCells(d.Times)...)...)
	}
	return g
}

func visitTimesGrid(list []api.VisitTimes) grid {
	g := grid{headings: []string{"Sweep", "Began", "Seen from|vantage", "Protocol", "Answers", "Lost", "Median", "95 %|most", "Longest|worst"}}
	for _, v := range list {
		g.add(append([]any{v.Sweep, at(&v.Began), v.Vantage, v.Protocol}, timesCells(v.Times)...)...)
	}
	return g
}

// timesCells writes times in milliseconds, as long ones are read: without what nobody would call a difference.
func timesCells(t api.Times) []any {
	ms := func(v float64) cell {
		raw := strconv.FormatFloat(v, 'f', -1, 64)
		if v >= 100 {
			return cell{strconv.FormatFloat(v, 'f', 0, 64), raw}
		}
		return cell{strconv.FormatFloat(v, 'g', 3, 64), raw}
	}
	return []any{t.Answers, t.Lost, ms(t.Median), ms(t.Most), ms(t.Worst)}
}

func (p Program) firmwareCommand() *cli.Command {
	return &cli.Command{
		Name: "firmware", Usage: "how the versions of firmware lie over the devices of each model",
		Description: "Examples: airdrift firmware, airdrift firmware --behind, airdrift firmware want 'Climate 900' 4.3 --vendor 'Thornquist Controls'",
		Flags:       []cli.Flag{&cli.BoolFlag{Name: "behind", Usage: "only models of which devices have an older version than is wanted, or than others have"}},
		Action:      p.firmware,
		Commands: []*cli.Command{{
			Name: "want", Usage: "say which version the site wants on a model; without one, that it wants none in particular", ArgsUsage: "MODEL [VERSION]",
			Flags:  []cli.Flag{&cli.StringFlag{Name: "vendor", Usage: "`VENDOR` of the model, where models of several are called so"}},
			Action: p.wantFirmware,
		}},
	}
}

func (p Program) firmware(ctx context.Context, c *cli.Command) error {
	cl, site, err := connectSite(ctx, c)
	if err != nil {
		return err
	}
	all, err := cl.Firmware(ctx, site.ID)
	if err != nil {
		return err
	}
	list := []api.FirmwareSpread{}
	for _, s := range all {
		if s.Behind > 0 || !c.Bool("behind") {
			list = append(list, s)
		}
	}
	return write(p.Out, c.String("output"), firmwareGrid(list), list)
}

func firmwareGrid(list []api.FirmwareSpread) grid {
	g := grid{headings: []string{"Vendor", "Model", "Devices", "Versions", "Unknown", "Wanted", "Behind"}}
	for _, s := range list {
		versions := make([]string, len(s.Versions))
		for i, v := range s.Versions {
			versions[i] = fmt.Sprintf("%s (%d)", v.Version, v.Devices)
		}
		g.add(s.Vendor, s.Model, strconv.Itoa(s.Devices), strings.Join(versions, ", "), blankZero(s.Unknown), s.Wanted, blankZero(s.Behind))
	}
	return g
}

// blankZero writes a count that is worth a look.
func blankZero(n int) string {
	if n == 0 {
		return ""
	}
	return strconv.Itoa(n)
}

func (p Program) wantFirmware(ctx context.Context, c *cli.Command) error {
	if n := c.Args().Len(); n != 1 && n != 2 {
		return wrongUse("want a model and a version")
	}
	cl, site, err := connectSite(ctx, c)
	if err != nil {
		return err
	}
	spreads, err := cl.Firmware(ctx, site.ID)
	if err != nil {
		return err
	}
	model, vendor := c.Args().First(), c.String("vendor")
	var vendors []string
	for _, s := range spreads {
		if strings.EqualFold(s.Model, model) && (vendor == "" || strings.EqualFold(s.Vendor, vendor)) {
			model, vendors = s.Model, append(vendors, s.Vendor)
		}
	}
	switch len(vendors) {
	case 0:
		return wrongUse("no device of this site is of a model %q: airdrift firmware lists them", model)
	case 1:
	default:
		return wrongUse("models of several vendors are called %q: name one with --vendor: %s", model, strings.Join(vendors, ", "))
	}
	return cl.WantFirmware(ctx, site.ID, api.WantedFirmware{Vendor: vendors[0], Model: model, Version: c.Args().Get(1)})
}

func (p Program) opennessCommand() *cli.Command {
	return &cli.Command{
		Name: "openness", Usage: "which devices of the building's systems can be read over an open protocol",
		Description: "open: over an open protocol; own: in their makers' own ways alone; closed: not at all, so that a gateway is needed.\n" +
			"Points are counted by a sweep that is to read: airdrift sweep --read.\n" +
			"Examples: airdrift openness, airdrift openness --devices --system plant, airdrift openness --devices --state closed",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "devices", Usage: "list the devices, in place of the systems"},
			&cli.StringFlag{Name: "system", Usage: "only of this `SYSTEM`, such as plant, metering or lighting"},
			&cli.StringFlag{Name: "state", Usage: "only devices that can be read so: open, own or closed"},
		},
		Action: p.openness,
	}
}

func (p Program) openness(ctx context.Context, c *cli.Command) error {
	cl, site, err := connectSite(ctx, c)
	if err != nil {
		return err
	}
	found, err := cl.Openness(ctx, site.ID, c.String("system"), c.String("state"))
	if err != nil {
		return err
	}
	if c.Bool("devices") || c.String("system") != "" || c.String("state") != "" {
		return write(p.Out, c.String("output"), openDevicesGrid(found.Devices), found.Devices)
	}
	return write(p.Out, c.String("output"), opennessGrid(found.Systems), found.Systems)
}

func opennessGrid(list []api.SystemOpenness) grid {
	g := grid{headings: []string{"System", "Devices", "Open", "Own", "Closed", "Points", "Protocols"}}
	for _, s := range list {
		points := ""
		if s.Counted > 0 {
			points = fmt.Sprintf("%d of %s", s.Points, counted(s.Counted, "device"))
		}
		protocols := make([]string, len(s.Protocols))
		for i, p := range s.Protocols {
			protocols[i] = fmt.Sprintf("%s (%d)", p.Protocol, p.Devices)
		}
		g.add(s.System, strconv.Itoa(s.Devices), blankZero(s.Open), blankZero(s.Own), blankZero(s.Closed), points, strings.Join(protocols, ", "))
	}
	return g
}

func openDevicesGrid(list []api.DeviceOpenness) grid {
	g := grid{headings: []string{"No|device", "Address|addr", "Name", "System", "Kind", "Model", "Can be read", "Protocols", "Points", "Flags"}}
	for _, d := range list {
		points := ""
		if d.Points != nil {
			points = strconv.Itoa(*d.Points)
		}
		g.add(strconv.FormatUint(d.Device, 10), d.Addr, d.Name, d.System, d.Kind, d.Model, d.State, strings.Join(d.Protocols, ", "), points, strings.Join(d.Flags, "; "))
	}
	return g
}
