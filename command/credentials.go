package command

import (
	"context"
	"fmt"
	"slices"
	"strconv"

	"github.com/urfave/cli/v3"

	"airdrift/api"
	"airdrift/client"
)

func (p Program) credentialsCommand() *cli.Command {
	return &cli.Command{
		Name:  "credentials",
		Usage: "how a site's agents of SNMP let us in; what is secret goes in and never comes out",
		Description: "Without a command the credentials are listed, in the order in which they are tried. Secrets are read from standard input, unseen on a\n" +
			"terminal, and never from the command line: a community as one line; of version 3 the authentication key, then the privacy key.\n" +
			"Examples: airdrift credentials add plant, airdrift credentials add plant3 --version 3 --user heron --authentication SHA-256 --privacy AES,\n" +
			"airdrift credentials try plant 10.40.2.16",
		Action: func(ctx context.Context, c *cli.Command) error {
			return p.listCredentials(ctx, c)
		},
		Commands: []*cli.Command{p.credentialAdd(), p.credentialRemove(), p.credentialTry()},
	}
}

func (p Program) listCredentials(ctx context.Context, c *cli.Command) error {
	cl, site, err := connectSite(ctx, c)
	if err != nil {
		return err
	}
	list, err := cl.Credentials(ctx, site.ID)
	if err != nil {
		return err
	}
	g := grid{headings: []string{"No|id", "Name", "SNMP|version", "User", "Authentication|auth", "Privacy|priv", "Added|createdAt"}}
	for _, k := range list {
		g.add(strconv.FormatUint(k.ID, 10), k.Name, k.Version, k.User, k.Auth, k.Priv, at(&k.CreatedAt))
	}
	return write(p.Out, c.String("output"), g, list)
}

func (p Program) credentialAdd() *cli.Command {
	return &cli.Command{
		Name: "add", Usage: "add a credential; its secrets are read from standard input", ArgsUsage: "NAME",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "version", Usage: "`VERSION` of SNMP: 1, 2c or 3", Value: "2c"},
			&cli.StringFlag{Name: "user", Usage: "`USER` of version 3"},
			&cli.StringFlag{Name: "authentication", Usage: "`PROTOCOL` of version 3: MD5, SHA, SHA-224, SHA-256, SHA-384 or SHA-512"},
			&cli.StringFlag{Name: "privacy", Usage: "`PROTOCOL` of version 3: DES, AES, AES-192 or AES-256"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() != 1 {
				return wrongUse("want one name for the credential")
			}
			cl, site, err := connectSite(ctx, c)
			if err != nil {
				return err
			}
			wanted := api.NewCredential{
				Name: c.Args().First(), Version: c.String("version"), User: c.String("user"), Auth: c.String("authentication"), Priv: c.String("privacy"),
			}
			if err := p.readSecrets(&wanted); err != nil {
				return err
			}
			if _, err := cl.CreateCredential(ctx, site.ID, wanted); err != nil {
				return err
			}
			return p.listCredentials(ctx, c)
		},
	}
}

// readSecrets reads what is secret of a credential, each on a line of its own.
func (p Program) readSecrets(wanted *api.NewCredential) (err error) {
	in := p.secrets()
	if wanted.Version != "3" {
		wanted.Community, err = in.read("Community: ", "community")
		return err
	}
	if wanted.Auth != "" {
		if wanted.AuthKey, err = in.read("Authentication key: ", "authentication key"); err != nil {
			return err
		}
	}
	if wanted.Priv != "" {
		wanted.PrivKey, err = in.read("Privacy key: ", "privacy key")
	}
	return err
}

func (p Program) credentialRemove() *cli.Command {
	return &cli.Command{
		Name: "delete", Usage: "delete a credential", ArgsUsage: "NAME",
		Action: func(ctx context.Context, c *cli.Command) error {
			cl, credential, err := connectCredential(ctx, c)
			if err != nil {
				return err
			}
			if err := cl.RemoveCredential(ctx, credential.ID); err != nil {
				return err
			}
			return p.listCredentials(ctx, c)
		},
	}
}

// connectCredential makes a client and finds the credential that the first argument names.
func connectCredential(ctx context.Context, c *cli.Command) (*client.Client, api.Credential, error) {
	if !c.Args().Present() {
		return nil, api.Credential{}, wrongUse("want the name of a credential: airdrift credentials lists them")
	}
	cl, site, err := connectSite(ctx, c)
	if err != nil {
		return nil, api.Credential{}, err
	}
	list, err := cl.Credentials(ctx, site.ID)
	if err != nil {
		return nil, api.Credential{}, err
	}
	at := slices.IndexFunc(list, func(k api.Credential) bool { return k.Name == c.Args().First() })
	if at < 0 {
		return nil, api.Credential{}, fmt.Errorf("site %s has no credential %q: airdrift credentials lists them", site.Name, c.Args().First())
	}
	return cl, list[at], nil
}

func (p Program) credentialTry() *cli.Command {
	return &cli.Command{
		Name: "try", Usage: "try a credential on one device", ArgsUsage: "NAME DEVICE",
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() != 2 {
				return wrongUse("want the name of a credential and a device")
			}
			cl, credential, err := connectCredential(ctx, c)
			if err != nil {
				return err
			}
			device, err := findDevice(ctx, cl, c, c.Args().Get(1))
			if err != nil {
				return err
			}
			trial, err := cl.TryCredential(ctx, device, credential.ID)
			if err != nil {
				return err
			}
			g := grid{headings: []string{"Key", "Value"}}
			for _, f := range trial.Facts {
				g.add(f.Key, f.Value)
			}
			fmt.Fprintln(p.Err, trialText(trial))
			return write(p.Out, c.String("output"), g, trial)
		},
	}
}

func trialText(trial api.CredentialTrial) string {
	switch {
	case trial.Taken:
		return "The device takes it."
	case trial.Answered:
		return "The device's agent answers, and does not take it."
	}
	return "No agent answers there: it is off, filtered, or knows neither this nor the usual."
}
