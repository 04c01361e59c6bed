package command

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"airdrift/service"
)

const defaultListen = "127.0.0.1:8470"

func listenFlag() cli.Flag {
	return &cli.StringFlag{Name: "listen", Usage: "address of the console and the API, on loopback", Value: defaultListen, Sources: cli.EnvVars("AIRDRIFT_LISTEN")}
}

func (p Program) serveCommand() *cli.Command {
	return &cli.Command{
		Name:  "serve",
		Usage: "run the service and its console until it is told to stop",
		Description: "Without --dsn-file the service starts a MariaDB server of its own on loopback, with its data below --data.\n" +
			"The first password of the console is left in the file console-password there.",
		Flags: []cli.Flag{
			listenFlag(),
			&cli.StringFlag{Name: "dsn", Usage: "a MariaDB that runs: user:password@tcp(host:3306)/name; others can see a command line, so --dsn-file is safer",
				Sources: cli.EnvVars("AIRDRIFT_DSN")},
			&cli.StringFlag{Name: "dsn-file", Usage: "file that holds the DSN"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			dsn, err := readDSN(c)
			if err != nil {
				return err
			}
			in, err := service.Run(ctx, service.InstanceConfig{Data: c.String("data"), Listen: c.String("listen"), DSN: dsn, Console: p.Console})
			if err != nil {
				return err
			}
			fmt.Fprintf(p.Err, "Airdrift serves at %s\nThe console's first password is in %s\n", in.URL, in.PasswordFile())
			return errors.Join(in.Wait(ctx), in.Close())
		},
	}
}

func readDSN(c *cli.Command) (string, error) {
	if path := c.String("dsn-file"); path != "" {
		text, err := os.ReadFile(path)
		if err != nil {
			return "", fmt.Errorf("DSN: %w", err)
		}
		return strings.TrimSpace(string(text)), nil
	}
	return c.String("dsn"), nil
}

func (p Program) passwordCommand() *cli.Command {
	return &cli.Command{
		Name:  "password",
		Usage: "set the console's password, read from standard input",
		Action: func(ctx context.Context, c *cli.Command) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			password, err := p.readSecret("New password: ")
			if err != nil {
				return err
			}
			if err := cl.SetPassword(ctx, password); err != nil {
				return err
			}
			fmt.Fprintln(p.Err, "The password is set.")
			return nil
		},
	}
}
