package command

import (
	"context"
	"fmt"
	"io"
	"os"

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
					done, err := cl.ImportRegister(ctx, site.ID, file, client.Import{Replace: c.Bool("replace"), Partial: c.Bool("partial")})
					if err != nil {
						return err
					}
					for _, bad := range done.Faults {
						fmt.Fprintln(p.Err, visible(fmt.Sprintf("left out: %s %s: %s", bad.Place, bad.Field, bad.Why), false))
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
				Action: func(ctx context.Context, c *cli.Command) error {
					cl, site, err := connectSite(ctx, c)
					if err != nil {
						return err
					}
					entries, err := cl.Register(ctx, site.ID)
					if err != nil {
						return err
					}
					return p.writeRegister(c.String("output"), entries)
				},
			},
		},
	}
}

func (p Program) openFile(path string) (io.ReadCloser, error) {
	if path == "-" {
		return io.NopCloser(p.In), nil
	}
	return os.Open(path)
}

func (p Program) writeRegister(form string, entries []api.Entry) error {
	g := grid{headings: []string{"Name", "MAC", "Address", "Vendor", "Model", "Kind", "Location", "Responsible", "Note"}}
	for _, e := range entries {
		g.add(e.Name, e.MAC, e.Addr, e.Vendor, e.Model, e.Kind, e.Location, e.Responsible, e.Note)
	}
	return write(p.Out, form, g, entries)
}
