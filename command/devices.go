package command

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"airdrift/api"
	"airdrift/client"
)

// pageSize is how many devices are fetched at a time.
const pageSize = 1000

func (p Program) devicesCommand() *cli.Command {
	return &cli.Command{
		Name:  "devices",
		Usage: "list the devices of a site",
		Flags: []cli.Flag{
			&cli.StringSliceFlag{Name: "standing", Usage: "only `STANDING` managed, unmanaged or missing; may be given again"},
			&cli.StringSliceFlag{Name: "presence", Usage: "only `PRESENCE` seen, silent or uncovered; may be given again"},
			&cli.StringSliceFlag{Name: "kind", Usage: "only `KIND`, such as printer; may be given again"},
			&cli.BoolFlag{Name: "contested", Usage: "only devices that share an address"},
			&cli.StringFlag{Name: "text", Usage: "only devices of which these `WORDS` are known"},
			&cli.StringFlag{Name: "sort", Usage: "`COLUMN` to sort by: address, name, kind, vendor, standing, lastSeen, ...", Value: "address"},
			&cli.BoolFlag{Name: "descend", Usage: "sort downwards"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			cl, site, err := connectSite(ctx, c)
			if err != nil {
				return err
			}
			list, err := allDevices(ctx, cl, site.ID, client.DeviceQuery{
				Standing: c.StringSlice("standing"), Presence: c.StringSlice("presence"), Kind: c.StringSlice("kind"),
				Contested: c.Bool("contested"), Text: c.String("text"), Sort: c.String("sort"), Descend: c.Bool("descend"),
			})
			if err != nil {
				return err
			}
			return p.writeDevices(c.String("output"), list)
		},
	}
}

// allDevices fetches a list page by page.
func allDevices(ctx context.Context, cl *client.Client, site uint64, q client.DeviceQuery) ([]api.DeviceLine, error) {
	all := []api.DeviceLine{}
	for q.Limit = pageSize; ; q.Offset += pageSize {
		page, err := cl.Devices(ctx, site, q)
		if err != nil {
			return nil, err
		}
		all = append(all, page.Devices...)
		if len(page.Devices) < pageSize {
			return all, nil
		}
	}
}

func (p Program) writeDevices(form string, list []api.DeviceLine) error {
	g := grid{headings: []string{"No", "Address", "Name", "Kind", "Vendor", "Standing", "MAC", "Last seen", "Presence"}}
	for _, d := range list {
		addrs := strings.Join(d.Addrs, ", ")
		if d.Contested {
			addrs += " (shared)"
		}
		g.add(strconv.FormatUint(d.ID, 10), addrs, d.Name, d.Kind, d.Vendor, d.Standing, d.MAC, localTime(d.LastSeen), d.Presence)
	}
	return write(p.Out, form, g, list)
}

func (p Program) deviceCommand() *cli.Command {
	return &cli.Command{
		Name:      "device",
		Usage:     "show all that is known of one device, and why it is believed",
		ArgsUsage: "NUMBER | ADDRESS | MAC | NAME",
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() != 1 {
				return wrongUse("want one device: its number, address, MAC address or name")
			}
			cl, err := connect(c)
			if err != nil {
				return err
			}
			id, err := findDevice(ctx, cl, c, c.Args().First())
			if err != nil {
				return err
			}
			device, err := cl.Device(ctx, id)
			if err != nil {
				return err
			}
			if c.String("output") == "table" {
				return writeDevice(p.Out, device)
			}
			return write(p.Out, c.String("output"), factGrid(device), device)
		},
	}
}

// findDevice gives the number of the device that is meant.
func findDevice(ctx context.Context, cl *client.Client, c *cli.Command, wanted string) (uint64, error) {
	if id, err := strconv.ParseUint(wanted, 10, 64); err == nil {
		return id, nil
	}
	site, err := findSite(ctx, cl, c.String("site"))
	if err != nil {
		return 0, err
	}
	list, err := allDevices(ctx, cl, site.ID, client.DeviceQuery{Text: wanted})
	if err != nil {
		return 0, err
	}
	meant := slices.DeleteFunc(list, func(d api.DeviceLine) bool {
		return !slices.Contains(d.Addrs, wanted) && !strings.EqualFold(d.MAC, wanted) && !strings.EqualFold(d.Name, wanted)
	})
	switch len(meant) {
	case 0:
		return 0, fmt.Errorf("no device of site %s has the address, MAC address or name %q", site.Name, wanted)
	case 1:
		return meant[0].ID, nil
	}
	text := make([]string, len(meant))
	for i, d := range meant {
		text[i] = fmt.Sprintf("%d (%s)", d.ID, strings.Join([]string{d.MAC, d.Vendor, d.Name}, " "))
	}
	return 0, wrongUse("%q means several devices; say which by its number: %s", wanted, strings.Join(text, ", "))
}

// factGrid gives the evidence as rows, for CSV.
func factGrid(d api.Device) grid {
	g := grid{headings: []string{"Source", "Key", "Port", "Value", "At"}}
	for _, f := range d.Evidence {
		g.add(f.Source, f.Key, f.Port, f.Value, f.At.Format("2006-01-02T15:04:05Z07:00"))
	}
	return g
}

// writeDevice writes a device for reading.
func writeDevice(w io.Writer, d api.Device) error {
	out := &paragraphs{w: w}
	title := d.Name
	if title == "" {
		title = strings.Join(d.Addrs, ", ")
	}
	out.line("%s  (device %d)", title, d.ID)
	out.line("%s, %s", d.Standing, d.Presence)
	out.pair("Addresses", strings.Join(d.Addrs, ", "))
	if len(d.Shared) > 0 {
		out.pair("Shared", strings.Join(d.Shared, ", ")+": another device answers there too")
	}
	for _, m := range d.MACs {
		out.pair("MAC", macText(m))
	}
	out.pair("First seen", localTime(d.FirstSeen))
	out.pair("Last seen", localTime(d.LastSeen))
	if d.Entry != nil {
		out.pair("Register", strings.Join(nonEmpty(d.Entry.Name, d.Entry.Addr, d.Entry.MAC, d.Entry.Location, d.Entry.Responsible, d.Entry.Note), ", "))
		out.pair("Matched by", d.MatchedBy)
	}
	for _, r := range d.Reasons {
		out.pair("One device", r)
	}
	out.heading("What it is believed to be (strength in decibans)")
	for _, c := range d.Claims {
		writeClaim(out, c)
	}
	out.heading("Ports")
	for _, p := range d.Ports {
		out.line("  %-10s %s", p.Port, p.Service)
		for _, f := range p.Words {
			out.line("      %-14s %s", f.Key, f.Value)
		}
	}
	return out.err
}

func macText(m api.MAC) string {
	switch {
	case m.Private:
		return m.MAC + "  private: chosen by the device, tells no maker"
	case m.Vendor == "":
		return m.MAC + "  prefix not registered"
	}
	return m.MAC + "  " + m.Vendor
}

func writeClaim(out *paragraphs, c api.Claim) {
	value := c.Value
	if value == "" {
		value = "unknown"
	}
	out.line("  %-9s %s  (%d)", c.Attribute, value, c.Strength)
	for _, candidate := range c.Candidates {
		if candidate.Value != c.Value {
			out.line("      %s: %s (%d)", doubt(c), candidate.Value, candidate.Strength)
		}
		for _, r := range candidate.Reasons {
			out.line("      %+d  %s  [%s]", r.Strength, r.Because, strings.TrimSpace(r.Fact.Key+" "+r.Fact.Value))
		}
	}
}

// doubt says what a candidate that is not believed is.
func doubt(c api.Claim) string {
	if c.Strength > 0 {
		return "against it"
	}
	return "it could be"
}

func nonEmpty(list ...string) []string {
	return slices.DeleteFunc(list, func(s string) bool { return s == "" })
}

// paragraphs writes lines of which every value is made visible, and keeps the first failure.
type paragraphs struct {
	w   io.Writer
	err error
}

func (p *paragraphs) line(format string, args ...any) {
	if p.err == nil {
		_, p.err = fmt.Fprintln(p.w, visible(fmt.Sprintf(format, args...), false))
	}
}

func (p *paragraphs) heading(text string) {
	p.line("")
	p.line("%s", text)
}

func (p *paragraphs) pair(name, value string) {
	if value != "" {
		p.line("  %-11s %s", name, value)
	}
}
