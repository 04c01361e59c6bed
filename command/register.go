package command

import (
	"context"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"airdrift/api"
	"airdrift/client"
)

func (p Program) registerCommand() *cli.Command {
	return &cli.Command{
		Name:  "register",
		Usage: "the list of devices somebody says they manage",
		Commands: []*cli.Command{
			{
				Name: "import", Usage: "import a register from CSV or a workbook (.xlsx), all or nothing", ArgsUsage: "FILE",
				Description: "The first line names the columns, in any order: name, mac, address, vendor, model, kind, location,\n" +
					"responsible, note, and columns of your own. FILE - reads standard input.",
				Flags: []cli.Flag{
					&cli.BoolFlag{Name: "replace", Usage: "take the old register out first; otherwise the file is laid over it"},
					&cli.BoolFlag{Name: "partial", Usage: "leave out the lines in which something is wrong, and say which"},
					&cli.BoolFlag{Name: "preview", Usage: "say what it would change, and change nothing"},
				},
				Action: func(ctx context.Context, c *cli.Command) error {
					if c.Args().Len() != 1 {
						return wrongUse("want one file: airdrift register import FILE")
					}
					cl, site, err := connectSite(ctx, c)
					if err != nil {
						return err
					}
					file, err := p.openFile(c.Args().First())
					if err != nil {
						return err
					}
					defer file.Close()
					done, err := cl.ImportRegister(ctx, site.ID, file, client.Import{Replace: c.Bool("replace"), Partial: c.Bool("partial"), Preview: c.Bool("preview")})
					if err != nil {
						return err
					}
					for _, bad := range done.Faults {
						fmt.Fprintln(p.Err, visible(fmt.Sprintf("left out: %s %s: %s", bad.Place, bad.Field, bad.Why), false))
					}
					if c.Bool("preview") {
						return write(p.Out, c.String("output"), changesGrid(done.Changes), done)
					}
					g := grid{headings: []string{"Added", "Updated", "Left out", "Managed", "Unmanaged", "Missing"}}
					g.add(fmt.Sprint(done.Added), fmt.Sprint(done.Updated), fmt.Sprint(done.LeftOut), fmt.Sprint(done.Counts.Managed), fmt.Sprint(done.Counts.Unmanaged), fmt.Sprint(done.Counts.Missing))
					return write(p.Out, c.String("output"), g, done)
				},
			},
			{
				Name: "export", Usage: "write the register as CSV that can be imported again",
				Action: func(ctx context.Context, c *cli.Command) error {
					cl, site, err := connectSite(ctx, c)
					if err != nil {
						return err
					}
					return cl.ExportRegister(ctx, site.ID, forTerminal(p.Out))
				},
			},
			{
				Name: "show", Usage: "list the register",
				Flags: []cli.Flag{&cli.BoolFlag{Name: "missing", Usage: "only entries that no device has answered for, with devices that they could mean"}},
				Action: func(ctx context.Context, c *cli.Command) error {
					cl, site, err := connectSite(ctx, c)
					if err != nil {
						return err
					}
					list := cl.Register
					if c.Bool("missing") {
						list = cl.MissingEntries
					}
					entries, err := list(ctx, site.ID)
					if err != nil {
						return err
					}
					return p.writeRegister(c.String("output"), entries)
				},
			},
			p.registerAdd(), p.registerChange(), p.registerRemove(),
		},
	}
}

func (p Program) openFile(path string) (io.ReadCloser, error) {
	if path == "-" {
		return io.NopCloser(p.In), nil
	}
	return os.Open(path)
}

// givenFile opens the file that the only argument names; a dash means standard input.
func (p Program) givenFile(c *cli.Command, want string) (io.ReadCloser, error) {
	if c.Args().Len() != 1 {
		return nil, wrongUse("%s", want)
	}
	return p.openFile(c.Args().First())
}

func (p Program) writeRegister(form string, entries []api.Entry) error {
	g := grid{headings: []string{"No|id", "Name", "MAC", "Address|addr", "Vendor", "Model", "Kind", "Location", "Responsible", "Note", "Seen", "Could be"}}
	for _, e := range entries {
		seen := "never"
		if e.LastSeen != nil {
			seen = localTime(e.LastSeen)
		}
		could := make([]string, len(e.Could))
		for i, device := range e.Could {
			could[i] = fmt.Sprint(device)
		}
		g.add(fmt.Sprint(e.ID), e.Name, e.MAC, e.Addr, e.Vendor, e.Model, e.Kind, e.Location, e.Responsible, e.Note, seen, strings.Join(could, ", "))
	}
	return write(p.Out, form, g, entries)
}

// entryFields are the columns of an entry that can be given one by one, and what they mean.
var entryFields = []struct {
	name, usage string
	of          func(*api.EntryText) *string
}{
	{"name", "`NAME` of the device", func(e *api.EntryText) *string { return &e.Name }},
	{"mac", "its `MAC` address", func(e *api.EntryText) *string { return &e.MAC }},
	{"address", "its IP `ADDRESS`, beyond a router too", func(e *api.EntryText) *string { return &e.Addr }},
	{"vendor", "its `MAKER`", func(e *api.EntryText) *string { return &e.Vendor }},
	{"model", "its `MODEL`", func(e *api.EntryText) *string { return &e.Model }},
	{"kind", "its `KIND`", func(e *api.EntryText) *string { return &e.Kind }},
	{"location", "`PLACE` where it stands", func(e *api.EntryText) *string { return &e.Location }},
	{"responsible", "`ROLE` that looks after it", func(e *api.EntryText) *string { return &e.Responsible }},
	{"note", "`TEXT` of your own", func(e *api.EntryText) *string { return &e.Note }},
}

func entryFlags() []cli.Flag {
	flags := make([]cli.Flag, len(entryFields))
	for i, f := range entryFields {
		flags[i] = &cli.StringFlag{Name: f.name, Usage: f.usage}
	}
	return flags
}

// fill takes in the columns that were given.
func fill(c *cli.Command, text *api.EntryText) {
	for _, f := range entryFields {
		if c.IsSet(f.name) {
			*f.of(text) = c.String(f.name)
		}
	}
}

func (p Program) registerAdd() *cli.Command {
	return &cli.Command{
		Name: "add", Usage: "add one device to the register",
		Description: "Example: airdrift register add --name \"boiler room gateway\" --address 10.40.2.9 --note \"behind the north router\"",
		Flags:       entryFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			cl, site, err := connectSite(ctx, c)
			if err != nil {
				return err
			}
			var text api.EntryText
			fill(c, &text)
			entry, err := cl.AddEntry(ctx, site.ID, text)
			if err != nil {
				return err
			}
			return p.writeRegister(c.String("output"), []api.Entry{entry})
		},
	}
}

func (p Program) registerChange() *cli.Command {
	return &cli.Command{
		Name: "change", Usage: "change columns of one entry; those that are not given stay", ArgsUsage: "ENTRY", Flags: entryFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			cl, before, err := p.givenEntry(ctx, c)
			if err != nil {
				return err
			}
			text := api.EntryText{
				Name: before.Name, MAC: before.MAC, Addr: before.Addr, Vendor: before.Vendor, Model: before.Model, Kind: before.Kind, Location: before.Location,
				Responsible: before.Responsible, Note: before.Note, Extra: before.Extra,
			}
			fill(c, &text)
			entry, err := cl.ChangeEntry(ctx, before.ID, text)
			if err != nil {
				return err
			}
			return p.writeRegister(c.String("output"), []api.Entry{entry})
		},
	}
}

func (p Program) registerRemove() *cli.Command {
	return &cli.Command{
		Name: "delete", Usage: "delete one entry of the register", ArgsUsage: "ENTRY",
		Action: func(ctx context.Context, c *cli.Command) error {
			cl, entry, err := p.givenEntry(ctx, c)
			if err != nil {
				return err
			}
			if err := cl.RemoveEntry(ctx, entry.ID); err != nil {
				return err
			}
			fmt.Fprintln(p.Err, visible(fmt.Sprintf("Entry %d (%s) is no longer in the register.", entry.ID, entry.Name), false))
			return nil
		},
	}
}

// givenEntry finds the entry that the only argument names.
func (p Program) givenEntry(ctx context.Context, c *cli.Command) (*client.Client, api.Entry, error) {
	number, err := strconv.ParseUint(c.Args().First(), 10, 64)
	if c.Args().Len() != 1 || err != nil {
		return nil, api.Entry{}, wrongUse("want the number of an entry; airdrift register show lists them")
	}
	cl, err := connect(c)
	if err != nil {
		return nil, api.Entry{}, err
	}
	entry, err := cl.Entry(ctx, number)
	return cl, entry, err
}

// changesGrid shows what an import would do with which entries.
func changesGrid(changes []api.EntryChange) grid {
	g := grid{headings: []string{"Does", "Entry", "Column", "Was", "Becomes"}}
	for _, c := range changes {
		if len(c.Fields) == 0 {
			g.add(c.Does, c.Entry, "", "", "")
		}
		for _, f := range c.Fields {
			g.add(c.Does, c.Entry, f.Field, f.Was, f.Becomes)
		}
	}
	return g
}
