package command

import (
	"context"
	"errors"
	"fmt"
	"os"
	"time"

	"github.com/urfave/cli/v3"

	"airdrift/api"
	"airdrift/hostwire"
	"airdrift/service"
)

const defaultListen = "127.0.0.1:8470"

func listenFlag() cli.Flag {
	return &cli.StringFlag{Name: "listen", Usage: "`ADDRESS` of the console and the API, host:port", Value: defaultListen, Sources: cli.EnvVars("AIRDRIFT_LISTEN")}
}

func (p Program) serveCommand() *cli.Command {
	env := func(name string) cli.ValueSourceChain { return cli.EnvVars("AIRDRIFT_" + name) }
	return &cli.Command{
		Name:  "serve",
		Usage: "run the service and its console until it is told to stop",
		Description: "Without --dsn-file the service starts a MariaDB server of its own on loopback, with its data below --data.\n" +
			"The first password of the console, of the user administrator, is left in the file console-password there.\n" +
			"An address that other machines can reach is served by TLS only; without a certificate one is made.\n" +
			"Settings are taken from the options, then the environment (AIRDRIFT_...), then the file --settings.",
		Flags: []cli.Flag{
			listenFlag(),
			&cli.StringFlag{Name: "settings", Usage: "YAML `FILE` with settings; docs/settings.md describes it", Sources: env("SETTINGS")},
			&cli.StringFlag{Name: "dsn", Usage: "a MariaDB that runs: user:password@tcp(host:3306)/name?tls=true; others can see a command line, so --dsn-file is safer", Sources: env("DSN")},
			&cli.StringFlag{Name: "dsn-file", Usage: "`FILE` that holds the DSN", Sources: env("DSN_FILE")},
			&cli.StringFlag{Name: "dsn-ca", Usage: "PEM `FILE` with the certificates to trust for the database, by TLS", Sources: env("DSN_CA")},
			&cli.BoolFlag{Name: "tls", Usage: "speak TLS on loopback too", Sources: env("TLS")},
			&cli.StringFlag{Name: "tls-certificate", Usage: "PEM `FILE` with the certificate chain", Sources: env("TLS_CERTIFICATE")},
			&cli.StringFlag{Name: "tls-key", Usage: "PEM `FILE` with its key", Sources: env("TLS_KEY")},
			&cli.StringSliceFlag{Name: "trusted-proxy", Usage: "`NETWORK` of proxies whose header X-Forwarded-For is believed; may be given again", Sources: env("TRUSTED_PROXY")},
			&cli.BoolFlag{Name: "second-factor", Usage: "require a second factor of everybody who signs in by password", Sources: env("SECOND_FACTOR")},
			&cli.DurationFlag{Name: "idle", Usage: "`TIME` after which a session of the console that nobody uses ends", Value: service.DefaultIdle, Sources: env("IDLE")},
			&cli.IntFlag{Name: "audit-days", Usage: "for how many `DAYS` the audit log is kept", Value: int(service.DefaultAuditKept / (24 * time.Hour)), Sources: env("AUDIT_DAYS")},
			&cli.StringSliceFlag{Name: "public", Usage: "public `NETWORK`, or one of loopback, that may be put into a fence, as the site's own; may be given again", Sources: env("PUBLIC")},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			config, err := instanceConfig(c)
			if err != nil {
				return err
			}
			config.Console = p.Console
			if err := hostwire.KeepRights(); err != nil {
				return err
			}
			in, err := service.Run(ctx, config)
			if err != nil {
				return err
			}
			fmt.Fprintf(p.Err, "Airdrift serves at %s\n", in.URL)
			if in.Pin != "" {
				fmt.Fprintf(p.Err, "SHA-256 of its certificate's key: %s\n", in.Pin)
			}
			if _, err := os.Stat(in.PasswordFile()); err == nil {
				fmt.Fprintf(p.Err, "The first password of the user administrator is in %s\n", in.PasswordFile())
			}
			return errors.Join(in.Wait(ctx), in.Close())
		},
	}
}

func (p Program) passwordCommand() *cli.Command {
	return &cli.Command{
		Name:  "password",
		Usage: "set your own password, read from standard input",
		Description: "On the service's own machine this sets the password of the user administrator, whatever it was; with --server the one there is\n" +
			"is asked for first.",
		Action: func(ctx context.Context, c *cli.Command) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			secrets, present := p.secrets(), ""
			if c.String("server") != "" { // on this machine the system says who asks
				if present, err = secrets.read("Present password: ", "present password"); err != nil {
					return err
				}
			}
			password, err := secrets.read("New password: ", "password")
			if err != nil {
				return err
			}
			if err := cl.SetPassword(ctx, api.OwnPassword{Password: password, Present: present}); err != nil {
				return err
			}
			fmt.Fprintln(p.Err, "The password is set.")
			return nil
		},
	}
}
