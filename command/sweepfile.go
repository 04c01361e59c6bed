package command

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"

	"github.com/urfave/cli/v3"
)

func (p Program) exportSweeps() *cli.Command {
	return &cli.Command{
		Name: "export", Usage: "write sweeps to a file of JSON Lines, to keep or to enter elsewhere: those of some numbers, or all that have ended", ArgsUsage: "FILE [NUMBER ...]",
		Description: "Example: airdrift sweeps export monday.jsonl 4. A dash for FILE writes to standard output. docs/sweep-file.md documents the format.",
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() == 0 {
				return wrongUse("want a file to write to")
			}
			var numbers []uint64
			for _, text := range c.Args().Tail() {
				n, err := strconv.ParseUint(text, 10, 64)
				if err != nil {
					return wrongUse("%q is not the number of a sweep: airdrift sweeps lists them", text)
				}
				numbers = append(numbers, n)
			}
			cl, site, err := connectSite(ctx, c)
			if err != nil {
				return err
			}
			return p.toFile(c.Args().First(), func(out io.Writer) error { return cl.ExportSweeps(ctx, site.ID, numbers, out) })
		},
	}
}

// toFile writes a file, which is there only when it is whole; a dash means standard output.
func (p Program) toFile(path string, write func(io.Writer) error) error {
	if path == "-" {
		return write(p.Out)
	}
	file, err := os.CreateTemp(filepath.Dir(path), ".airdrift-*")
	if err != nil {
		return err
	}
	defer os.Remove(file.Name()) // of no effect once it has its name
	if err := errors.Join(write(file), file.Sync(), file.Close()); err != nil {
		return err
	}
	return os.Rename(file.Name(), path)
}

func (p Program) importSweeps() *cli.Command {
	return &cli.Command{
		Name: "import", Usage: "put the sweeps of a file among those of the site, all or nothing, and compute its devices anew", ArgsUsage: "FILE",
		Action: func(ctx context.Context, c *cli.Command) error {
			file, err := p.givenFile(c, "want one file that airdrift sweeps export has written")
			if err != nil {
				return err
			}
			defer file.Close()
			cl, site, err := connectSite(ctx, c)
			if err != nil {
				return err
			}
			done, err := cl.ImportSweeps(ctx, site.ID, filepath.Base(c.Args().First()), file)
			if err != nil {
				return err
			}
			fmt.Fprintf(p.Err, "%d sweeps with %d sightings are among those of %s.\n", done.Sweeps, done.Sightings, visible(site.Name, false))
			return nil
		},
	}
}
