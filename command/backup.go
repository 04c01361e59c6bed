package command

import (
	"context"
	"fmt"
	"io"

	"github.com/urfave/cli/v3"

	"airdrift/service"
)

func (p Program) backupCommand() *cli.Command {
	return &cli.Command{
		Name: "backup", Usage: "write all that the service has stored to a file, while it goes on", ArgsUsage: "FILE",
		Description: "What is sealed in the database, such as communities and keys, stays sealed: the file secrets.key of the data directory opens it, and is\n" +
			"to be kept apart. docs/backup.md says more. A dash for FILE writes to standard output.",
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() != 1 {
				return wrongUse("want one file to write to")
			}
			cl, err := connect(c)
			if err != nil {
				return err
			}
			return p.toFile(c.Args().First(), func(out io.Writer) error { return cl.Backup(ctx, out) })
		},
	}
}

func (p Program) restoreCommand() *cli.Command {
	return &cli.Command{
		Name: "restore", Usage: "fill a new data directory, or an empty database, with a backup, all or nothing", ArgsUsage: "FILE",
		Description: "Example: airdrift --data /var/lib/airdrift-new restore garden.backup, and then airdrift --data /var/lib/airdrift-new serve. Put the file\n" +
			"secrets.key of the old data directory there too, else credentials are to be entered anew.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "dsn-file", Usage: "`FILE` that holds the DSN of an empty database; one below --data where left out"},
			&cli.StringFlag{Name: "dsn-ca", Usage: "PEM `FILE` with the certificates to trust for the database, by TLS"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			file, err := p.givenFile(c, "want one file that airdrift backup has written")
			if err != nil {
				return err
			}
			defer file.Close()
			config := service.InstanceConfig{Data: c.String("data"), DSNCA: c.String("dsn-ca")}
			if path := c.String("dsn-file"); path != "" {
				if config.DSN, err = readDSN("", path); err != nil {
					return err
				}
			}
			if err := service.Restore(ctx, config, file); err != nil {
				return err
			}
			fmt.Fprintf(p.Err, "Restored into %s.\n", config.Data)
			return nil
		},
	}
}
