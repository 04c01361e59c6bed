package command

import (
	"context"
	"io"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"airdrift/client"
)

// paperFlags say how a document is made.
func paperFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "at", Usage: "the `DAY` that it shows, such as 2026-11-06; now where left out"},
		&cli.StringFlag{Name: "since", Usage: "changes from this `DAY` on; those of the newest sweep where left out"},
		&cli.StringFlag{Name: "paper", Usage: "`PAPER` of the pages: A4 or Letter", Value: "A4"},
	}
}

func (p Program) reportCommand() *cli.Command {
	return &cli.Command{
		Name: "report", Usage: "the site for its owner, in a file: what is here, what nobody manages, what is wrong and what to do", ArgsUsage: "FILE",
		Description: "The end of the file's name says its form: .pdf, .html (one page that needs nothing else) or .json; - writes HTML to standard output.\n" +
			"Examples: airdrift report fernhollow.pdf --since 2026-11-02, airdrift report site.html --paper Letter, airdrift report - > site.html",
		Flags: paperFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			form, err := formOf(c.Args().First(), "html", "html", "pdf", "json")
			if err != nil {
				return err
			}
			cl, site, err := connectSite(ctx, c)
			if err != nil {
				return err
			}
			query := client.ReportQuery{Form: form, At: c.String("at"), Since: c.String("since"), Paper: c.String("paper")}
			return p.toFile(c.Args().First(), func(out io.Writer) error { return cl.Report(ctx, site.ID, query, out) })
		},
	}
}

func (p Program) extractCommand() *cli.Command {
	saved := p.savedCommand("extract", "", "save an extract for somebody under a name",
		"", &cli.StringFlag{Name: "for", Usage: "`WHOM` it is for, such as a contractor"})
	return &cli.Command{
		Name: "extract", Usage: "some devices with findings, firmware and response times in a file for somebody; saved under a name", ArgsUsage: "FILE",
		Description: "The end of the file's name says its form: .xlsx, .csv, .json, .html or .pdf; - writes CSV to standard output.\n" +
			"Examples: airdrift extract thornquist.xlsx --filter 'vendor=Thornquist Controls', airdrift extract save stage --filter network=plant --for 'the stage crew',\n" +
			"airdrift extract stage.pdf --name stage, airdrift extract - --name stage --sheet findings",
		Flags: append([]cli.Flag{
			&cli.StringFlag{Name: "name", Usage: "the extract that is saved under this `NAME`; airdrift extract list has them"},
			&cli.StringFlag{Name: "filter", Usage: "which devices, as a `QUERY` such as vendor=Ravelin&network=plant"},
			&cli.StringFlag{Name: "sheet", Usage: "which `TABLE` a CSV has: devices, findings, mending or times", Value: "devices"},
		}, paperFlags()...),
		Action: func(ctx context.Context, c *cli.Command) error {
			form, err := formOf(c.Args().First(), "csv", "xlsx", "csv", "json", "html", "pdf")
			if err != nil {
				return err
			}
			if (c.String("name") == "") == (c.String("filter") == "") {
				return wrongUse("say which devices: give --filter, or the --name of an extract that is saved")
			}
			cl, site, err := connectSite(ctx, c)
			if err != nil {
				return err
			}
			query := client.ReportQuery{Form: form, At: c.String("at"), Since: c.String("since"), Paper: c.String("paper"), Name: c.String("name"), Filter: c.String("filter"), Sheet: c.String("sheet")}
			return p.toFile(c.Args().First(), func(out io.Writer) error { return cl.Extract(ctx, site.ID, query, out) })
		},
		Commands: append([]*cli.Command{{Name: "list", Usage: "the extracts that are saved", Action: saved.Action}}, saved.Commands...),
	}
}

// formOf gives the form of a file by the end of its name, or that of standard output.
func formOf(file, standard string, forms ...string) (string, error) {
	if file == "" {
		return "", wrongUse("say which file to write, such as site.%s; - is standard output", forms[0])
	}
	if file == "-" {
		return standard, nil
	}
	end := strings.TrimPrefix(strings.ToLower(filepath.Ext(file)), ".")
	for _, form := range forms {
		if end == form {
			return form, nil
		}
	}
	return "", wrongUse("%s: the end of a file's name says its form: want .%s", file, strings.Join(forms, ", ."))
}
