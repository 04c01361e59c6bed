package command

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"airdrift/api"
	"airdrift/client"
	"airdrift/core/inventory"
)

// pageSize is how many devices are fetched at a time.
const pageSize = 1000

func (p Program) devicesCommand() *cli.Command {
	return &cli.Command{
		Name:     "devices",
		Usage:    "list the devices of a site; act on many at once, and undo it",
		Commands: p.actCommands(),
		Flags: append(filterFlags(),
			&cli.BoolFlag{Name: "unmanaged", Usage: "short for --standing unmanaged"},
			&cli.StringSliceFlag{Name: "columns", Usage: "only these `COLUMNS`, such as address,name,firmware; those of the view where it has some"},
			&cli.BoolFlag{Name: "expect-none", Usage: "exit with 3 where there is such a device"},
			watchFlag(),
		),
		Description: "Examples: airdrift devices --unmanaged, airdrift devices --kind printer --text hall --sort name,\n" +
			"airdrift devices --service snmp --strength 20, airdrift devices --vendor \"Ostermoor Networks\" --group \"second floor\",\n" +
			"airdrift devices --standing unmanaged --expect-none && echo \"everything here is managed\"",
		Action: func(ctx context.Context, c *cli.Command) error {
			cl, site, err := connectSite(ctx, c)
			if err != nil {
				return err
			}
			query := client.DeviceQuery{Filter: filterOf(c)}
			if c.Bool("unmanaged") {
				query.Filter.Add("standing", "unmanaged")
			}
			columns, err := columnsOf(ctx, cl, site.ID, c.StringSlice("columns"), c.String("view"))
			if err != nil {
				return err
			}
			if c.Bool("watch") {
				return p.watchDevices(ctx, cl, site, query, columns)
			}
			list, err := allDevices(ctx, cl, site.ID, query)
			if err != nil {
				return err
			}
			if err := write(p.Out, c.String("output"), devicesGrid(list, columns), list); err != nil {
				return err
			}
			if c.Bool("expect-none") && len(list) > 0 {
				return &foundError{"there " + thereAre(len(list), "such device") + ", and none was expected"}
			}
			return nil
		},
	}
}

// foundError says that there is what should not be.
type foundError struct{ text string }

func (e *foundError) Error() string { return e.text }

// allDevices fetches a list page by page.
func allDevices(ctx context.Context, cl *client.Client, site uint64, q client.DeviceQuery) ([]api.DeviceLine, error) {
	all := []api.DeviceLine{}
	for q.Limit = pageSize; ; {
		page, err := cl.Devices(ctx, site, q)
		if err != nil {
			return nil, err
		}
		all = append(all, page.Items...)
		if q.Cursor = page.Next; q.Cursor == "" {
			return all, nil
		}
	}
}

// filterFlags are the flags for all that a list of devices can be narrowed and sorted by.
func filterFlags() (flags []cli.Flag) {
	for _, p := range inventory.Parameters() {
		usage := strings.ToLower(p.Doc[:1]) + p.Doc[1:]
		switch {
		case p.Type == inventory.Flag:
			flags = append(flags, &cli.BoolFlag{Name: p.Name, Usage: usage})
		case p.Several:
			flags = append(flags, &cli.StringSliceFlag{Name: p.Name, Usage: usage + "; " + takes(p)})
		default:
			flags = append(flags, &cli.StringFlag{Name: p.Name, Usage: usage + "; " + takes(p)})
		}
	}
	return flags
}

// takes says what the value of a flag is.
func takes(p inventory.Parameter) string {
	value := "`" + strings.ToUpper(p.Name) + "`"
	switch {
	case p.Choices != nil && len(p.Choices) <= mostChoices:
		value += " is one of " + strings.Join(p.Choices, ", ")
	case p.Type == inventory.Number:
		value += " is a number"
	case p.Several:
		return value + " may be given again"
	default:
		value += " is a text"
	}
	if p.Several {
		value += ", and may be given again"
	}
	return value
}

// mostChoices is how many choices the usage of a flag names.
const mostChoices = 20

// filterOf reads the flags of filterFlags.
func filterOf(c *cli.Command) url.Values {
	filter := url.Values{}
	for _, p := range inventory.Parameters() {
		switch {
		case !c.IsSet(p.Name):
		case p.Type == inventory.Flag:
			filter.Set(p.Name, strconv.FormatBool(c.Bool(p.Name)))
		case p.Several:
			filter[p.Name] = c.StringSlice(p.Name)
		default:
			filter.Set(p.Name, c.String(p.Name))
		}
	}
	return filter
}

// columnsOf gives the columns that are shown: those that are named, or those of a saved view, or the usual ones.
func columnsOf(ctx context.Context, cl *client.Client, site uint64, named []string, view string) ([]string, error) {
	listed := inventory.Names(inventory.Listed())
	for _, name := range named {
		if !slices.Contains(listed, name) {
			return nil, wrongUse("--columns: there is no column %q: want some of %s", name, strings.Join(listed, ", "))
		}
	}
	if len(named) > 0 || view == "" {
		return named, nil
	}
	views, err := cl.Views(ctx, site, "view")
	for _, v := range views {
		if v.Name == view {
			return v.Columns, err
		}
	}
	return nil, err // the service says that there is no such view
}

func (p Program) writeDevices(form string, list []api.DeviceLine) error {
	return write(p.Out, form, devicesGrid(list, nil), list)
}

// devicesGrid has devices with some columns; with the usual ones where none is named.
func devicesGrid(list []api.DeviceLine, named []string) (g grid) {
	columns := inventory.ShownIn(inventory.Terminal)
	if len(named) > 0 {
		columns = slices.DeleteFunc(inventory.Listed(), func(f *inventory.Field) bool { return !slices.Contains(named, f.Name) })
	}
	for _, f := range columns {
		g.headings = append(g.headings, f.Heading+"|"+f.Key())
	}
	for _, d := range list {
		row := make([]any, len(columns))
		for i, f := range columns {
			row[i] = fieldCell(d, f)
		}
		g.add(row...)
	}
	return g
}

// fieldCell holds a field of a device.
func fieldCell(d api.DeviceLine, f *inventory.Field) any {
	if f.Name == "address" {
		return addressCell(d)
	}
	switch value := d.Value(f.Name).(type) {
	case time.Time:
		return at(&value)
	default:
		return f.Text(value)
	}
}

// addressCell holds where a device is reached, or behind what it is.
func addressCell(d api.DeviceLine) any {
	addrs := several(d.Addrs)
	if len(d.Addrs) == 0 && d.Unit != "" {
		addrs = cell{d.Unit, d.Unit}
	}
	if d.Contested {
		addrs.shown += " (shared)"
	}
	return addrs
}

// shortList writes the first of a list of addresses, and how many there are besides.
func shortList(addrs []string) string {
	if len(addrs) <= 1 {
		return strings.Join(addrs, "")
	}
	return fmt.Sprintf("%s +%d", addrs[0], len(addrs)-1)
}

func (p Program) deviceCommand() *cli.Command {
	return &cli.Command{
		Name:      "device",
		Usage:     "show all that is known of one device, and why it is believed",
		ArgsUsage: deviceForms,
		Description: "Examples: airdrift device 10.40.1.20, airdrift device note 10.40.1.20 \"behind the boiler\",\n" +
			"airdrift device aside 12 --reason \"the caterer's own\", airdrift device register 12 --location \"palm house\"",
		Commands: []*cli.Command{p.deviceNote(), p.deviceAside(), p.deviceTakeBack(), p.deviceRegister(), p.deviceHistory(), p.deviceBlink(), p.deviceGroup(), p.deviceLink(), p.deviceMerge(), p.deviceSplit(), p.devicePin(), p.deviceDecisions()},
		Action: func(ctx context.Context, c *cli.Command) error {
			cl, id, err := connectDevice(ctx, c)
			if err != nil {
				return err
			}
			return p.showDevice(ctx, c, cl, id)
		},
	}
}

// deviceBlink has a device show itself to who stands before it.
func (p Program) deviceBlink() *cli.Command {
	return &cli.Command{
		Name: "blink", Usage: "have a device show itself for some seconds, where an open protocol has a command for that; nothing of it is changed", ArgsUsage: deviceForms,
		Action: func(ctx context.Context, c *cli.Command) error {
			cl, id, err := connectDevice(ctx, c)
			if err != nil {
				return err
			}
			by, err := cl.Blink(ctx, id)
			if err == nil {
				fmt.Fprintf(p.Err, "It was told to show itself, by %s.\n", by)
			}
			return err
		},
	}
}

// deviceForms are the ways to name a device.
const deviceForms = "NUMBER | ADDRESS | MAC | NAME"

// connectDevice makes a client and finds the device that the first argument names.
func connectDevice(ctx context.Context, c *cli.Command) (*client.Client, uint64, error) {
	if !c.Args().Present() {
		return nil, 0, wrongUse("want one device: its number, address, MAC address or name")
	}
	cl, err := connect(c)
	if err != nil {
		return nil, 0, err
	}
	id, err := findDevice(ctx, cl, c, c.Args().First())
	return cl, id, err
}

func (p Program) showDevice(ctx context.Context, c *cli.Command, cl *client.Client, id uint64) error {
	device, err := cl.Device(ctx, id)
	if err != nil {
		return err
	}
	if c.String("output") == "table" {
		return writeDevice(p.Out, device)
	}
	return write(p.Out, c.String("output"), factGrid(device), device)
}

// changing makes an action that changes a device and then shows it.
func (p Program) changing(change func(ctx context.Context, c *cli.Command, cl *client.Client, id uint64) error) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		cl, id, err := connectDevice(ctx, c)
		if err != nil {
			return err
		}
		if err := change(ctx, c, cl, id); err != nil {
			return err
		}
		return p.showDevice(ctx, c, cl, id)
	}
}

func (p Program) deviceNote() *cli.Command {
	return &cli.Command{
		Name: "note", Usage: "write a note on a device; without a text delete it", ArgsUsage: "DEVICE [TEXT ...]",
		Action: p.changing(func(ctx context.Context, c *cli.Command, cl *client.Client, id uint64) error {
			return cl.SetNote(ctx, id, strings.Join(c.Args().Tail(), " "))
		}),
	}
}

func (p Program) deviceAside() *cli.Command {
	return &cli.Command{
		Name: "aside", Usage: "set a device aside: known, and left out of what nobody manages", ArgsUsage: "DEVICE",
		Flags: []cli.Flag{&cli.StringFlag{Name: "reason", Usage: "`WHY`", Required: true}},
		Action: p.changing(func(ctx context.Context, c *cli.Command, cl *client.Client, id uint64) error {
			return cl.SetAside(ctx, id, c.String("reason"))
		}),
	}
}

func (p Program) deviceTakeBack() *cli.Command {
	return &cli.Command{
		Name: "take-back", Usage: "take back that a device is set aside", ArgsUsage: "DEVICE",
		Action: p.changing(func(ctx context.Context, _ *cli.Command, cl *client.Client, id uint64) error {
			return cl.TakeBack(ctx, id)
		}),
	}
}

func (p Program) deviceRegister() *cli.Command {
	text := func(name, usage string) cli.Flag { return &cli.StringFlag{Name: name, Usage: usage} }
	return &cli.Command{
		Name: "register", Usage: "put a device into the register, as it was seen", ArgsUsage: "DEVICE",
		Flags: []cli.Flag{
			text("name", "`NAME` to enter; what was seen where left out"), text("location", "`PLACE` where it stands"),
			text("responsible", "`ROLE` that looks after it"), text("remark", "`TEXT` of the entry"),
		},
		Action: p.changing(func(ctx context.Context, c *cli.Command, cl *client.Client, id uint64) error {
			_, err := cl.AddToRegister(ctx, id, api.NewEntry{
				Name: c.String("name"), Location: c.String("location"), Responsible: c.String("responsible"), Note: c.String("remark"),
			})
			return err
		}),
	}
}

func (p Program) deviceDecisions() *cli.Command {
	return &cli.Command{
		Name: "decisions", Usage: "what people have said of a device, the newest first; with --undo N undo one", ArgsUsage: "DEVICE",
		Flags: []cli.Flag{&cli.Uint64Flag{Name: "undo", Usage: "undo the decision of this `NUMBER`; the one before holds again"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			cl, id, err := connectDevice(ctx, c)
			if err != nil {
				return err
			}
			list, err := cl.Decisions(ctx, id)
			if err != nil {
				return err
			}
			if c.IsSet("undo") {
				if !slices.ContainsFunc(list, func(d api.Decision) bool { return d.ID == c.Uint64("undo") }) {
					return wrongUse("decision %d is none of this device; without --undo they are listed", c.Uint64("undo"))
				}
				if err := cl.Undo(ctx, c.Uint64("undo")); err != nil {
					return err
				}
				if list, err = cl.Decisions(ctx, id); err != nil {
					return err
				}
			}
			g := grid{headings: []string{"No|id", "At", "By", "Decision|what", "Text", "State"}}
			for _, d := range list {
				g.add(strconv.FormatUint(d.ID, 10), at(&d.At), d.By, d.Says, d.Text, decisionState(d))
			}
			return write(p.Out, c.String("output"), g, list)
		},
	}
}

func decisionState(d api.Decision) string {
	switch {
	case d.UndoneAt != nil:
		return "undone by " + d.UndoneBy + ", " + localTime(d.UndoneAt)
	case d.Holds:
		return "holds"
	}
	return "replaced"
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
	list, err := allDevices(ctx, cl, site.ID, client.DeviceQuery{Filter: url.Values{"text": {wanted}}})
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
		g.add(f.Source, f.Key, f.Port, f.Value, atSecond(f.At))
	}
	return g
}

// maxReasons is how many reasons for taking sightings for one device are shown.
const maxReasons = 5

// titleOf gives what a device is called by: its name, else its addresses.
func titleOf(d api.Device) string {
	if d.Name != "" {
		return d.Name
	}
	return strings.Join(d.Addrs, ", ")
}

// writeDevice writes a device for reading.
func writeDevice(w io.Writer, d api.Device) error {
	out := &paragraphs{w: w}
	out.line("%s  (device %d)", titleOf(d), d.ID)
	out.line("%s, %s", d.Standing, d.Presence)
	out.pair("Addresses", strings.Join(d.Addrs, ", "))
	for _, trait := range d.Traits {
		out.pair("Flags", trait+": "+traitMeaning[trait])
	}
	if d.Aside != nil {
		out.pair("Set aside", fmt.Sprintf("%s (%s, %s)", d.Aside.Reason, d.Aside.By, localTime(&d.Aside.At)))
	}
	out.pair("Note", d.Note)
	if len(d.Shared) > 0 {
		out.pair("Shared", strings.Join(d.Shared, ", ")+": another device answers there too")
	}
	for _, m := range d.MACs {
		out.pair(map[bool]string{true: "Former MAC", false: "MAC"}[m.Former], macText(m))
	}
	out.pair("First seen", localTime(d.FirstSeen))
	out.pair("Last seen", localTime(d.LastSeen))
	if d.Entry != nil {
		out.pair("Register", strings.Join(nonEmpty(d.Entry.Name, d.Entry.Addr, d.Entry.MAC, d.Entry.Location, d.Entry.Responsible, d.Entry.Note), ", "))
		out.pair("Matched by", d.MatchedBy)
	}
	for _, r := range d.Reasons[:min(len(d.Reasons), maxReasons)] {
		out.pair("One device", r)
	}
	if more := len(d.Reasons) - maxReasons; more > 0 {
		out.pair("One device", fmt.Sprintf("and %d reasons more; --output json has them all", more))
	}
	for _, l := range d.Links {
		out.pair("Open", l.URL+" "+l.Title)
	}
	out.heading("What it is believed to be (strength in decibans)")
	for _, c := range d.Claims {
		writeClaim(out, c)
	}
	for i, way := range d.Settle {
		if i == 0 {
			out.heading("What would settle its kind")
		}
		out.line("  %s", way)
	}
	if len(d.Interfaces) > 0 {
		out.heading("Interfaces")
		for _, i := range d.Interfaces {
			out.line("  %-16s %-5s %-17s %8s  %s", i.Name, i.State, i.MAC, speedText(i.Speed), i.Alias)
		}
	}
	if len(d.Certificates) > 0 {
		out.heading("Certificates")
		for _, k := range d.Certificates {
			out.line("  %-10s %s, by %s, until %s%s", k.Port, k.Subject, k.Issuer, localTime(k.Until), map[bool]string{true: " (expired)"}[k.Expired])
		}
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

// traitMeaning says what each trait means for who reads the list.
var traitMeaning = map[string]string{
	"own machine":        "the sweep was made from it",
	"answers for others": "one MAC answers for many addresses, behind which there need be nobody",
	"accepts every port": "it accepts connections to whatever port, so an open port of it proves nothing",
	"virtual router":     "an address that several routers take turns at",
	"wrong subnet":       "it was heard on this segment with an address from another subnet, and cannot be asked from here",
}

func macText(m api.MAC) string {
	switch {
	case m.Shared:
		return m.MAC + "  a virtual router's: several devices take turns at it"
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
	if c.Perhaps != "" {
		value += ", perhaps " + c.Perhaps
	}
	out.line("  %-9s %s  (%d)", c.Attribute, value, c.Strength)
	if c.Conflict != "" {
		out.line("      conflict: %s", c.Conflict)
	}
	for _, candidate := range c.Candidates {
		if candidate.Value != c.Value {
			out.line("      %s: %s (%d)", doubt(c, candidate), candidate.Value, candidate.Strength)
		}
		for _, r := range candidate.Reasons {
			out.line("      %+d  %s  [%s]", r.Strength, r.Because, strings.TrimSpace(r.Fact.Key+" "+r.Fact.Value))
		}
	}
}

// speedText writes bits a second for reading.
func speedText(bits uint64) string {
	switch {
	case bits == 0:
		return ""
	case bits >= 1e9:
		return strconv.FormatFloat(float64(bits)/1e9, 'f', -1, 64) + " Gbit/s"
	}
	return strconv.FormatFloat(float64(bits)/1e6, 'f', -1, 64) + " Mbit/s"
}

// doubt says what a candidate that is not believed is.
func doubt(c api.Claim, candidate api.Candidate) string {
	switch {
	case candidate.Besides:
		return "it does this besides"
	case candidate.BuiltOn != "":
		return "more closely it could be"
	case c.Strength > 0:
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
