package command

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"airdrift/api"
	"airdrift/client"
)

func (p Program) rulesCommand() *cli.Command {
	return &cli.Command{
		Name:  "rules",
		Usage: "rules that a site adds to those of the program",
		Description: "Without a command the site's files of rules are listed. A file is checked when it is tried or added, with the line and column of each fault;\n" +
			"it is added disabled. Switching it on or off re-evaluates all stored evidence; no packet is sent.\n" +
			"Examples: airdrift rules try garden.yaml, airdrift rules add garden.yaml, airdrift rules on garden, airdrift rules off garden",
		Action: func(ctx context.Context, c *cli.Command) error {
			return p.listRules(ctx, c)
		},
		Commands: []*cli.Command{
			p.rulesTry(), p.rulesAdd(),
			p.rulesChange("on", "switch a file of rules on", func(ctx context.Context, cl *client.Client, id uint64) error {
				_, err := cl.SwitchRules(ctx, id, true)
				return err
			}),
			p.rulesChange("off", "switch a file of rules off", func(ctx context.Context, cl *client.Client, id uint64) error {
				_, err := cl.SwitchRules(ctx, id, false)
				return err
			}),
			p.rulesChange("delete", "delete a file of rules", func(ctx context.Context, cl *client.Client, id uint64) error { return cl.RemoveRules(ctx, id) }),
			p.rulesShow(),
		},
	}
}

func (p Program) listRules(ctx context.Context, c *cli.Command) error {
	cl, site, err := connectSite(ctx, c)
	if err != nil {
		return err
	}
	list, err := cl.Rules(ctx, site.ID)
	if err != nil {
		return err
	}
	g := grid{headings: []string{"No|id", "Name", "For|purpose", "Rules", "State", "Changed by", "Changed|changedAt"}}
	for _, f := range list {
		state := "off"
		if f.Active {
			state = "on"
		}
		g.add(strconv.FormatUint(f.ID, 10), f.Name, f.Purpose, strconv.Itoa(f.Rules), state, f.ChangedBy, at(&f.ChangedAt))
	}
	return write(p.Out, c.String("output"), g, list)
}

// withRules makes an action that does something with a file of rules that is named on the command line, and a site. The file's
// name without its ending is what the rules are called.
func (p Program) withRules(do func(ctx context.Context, c *cli.Command, cl *client.Client, site uint64, file api.NewRuleFile) error) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		if c.Args().Len() != 1 {
			return wrongUse("want one file of rules (YAML)")
		}
		path := c.Args().First()
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		cl, site, err := connectSite(ctx, c)
		if err != nil {
			return err
		}
		return do(ctx, c, cl, site.ID, api.NewRuleFile{Name: strings.TrimSuffix(filepath.Base(path), filepath.Ext(path)), Text: string(text), Purpose: c.String("for")})
	}
}

func (p Program) rulesTry() *cli.Command {
	return &cli.Command{
		Name: "try", Usage: "check rules and try them on the stored evidence: what would change", ArgsUsage: "FILE",
		Flags: []cli.Flag{purposeFlag()},
		Action: p.withRules(func(ctx context.Context, c *cli.Command, cl *client.Client, site uint64, file api.NewRuleFile) error {
			trial, err := cl.TryRules(ctx, site, file)
			if err != nil {
				return err
			}
			if file.Purpose == "judge" {
				fmt.Fprintf(p.Err, "%s would remark %s.\n", counted(trial.Rules, "rule"), counted(trial.Devices, "device"))
				return write(p.Out, c.String("output"), trialGrid(trial), trial)
			}
			g := grid{headings: []string{"No|device", "Device|name", "Attribute", "Before", "After"}}
			for _, change := range trial.Changes {
				g.add(strconv.FormatUint(change.Device, 10), change.Name, change.Attribute, change.Before, change.After)
			}
			fmt.Fprintf(p.Err, "%s would change %s.\n", counted(trial.Rules, "rule"), counted(trial.Devices, "device"))
			return write(p.Out, c.String("output"), g, trial)
		}),
	}
}

// trialGrid shows what rules would remark.
func trialGrid(trial api.RuleTrial) grid {
	g := grid{headings: []string{"No|device", "Device|name", "Severity", "Rule"}}
	for _, f := range trial.Findings {
		g.add(f.Device, f.Name, f.Severity, f.Rule)
	}
	return g
}

// purposeFlag says what a file of rules is for.
func purposeFlag() cli.Flag {
	return &cli.StringFlag{Name: "for", Usage: "what its rules are for: `PURPOSE` identify (what devices are) or judge (what is wrong)", Value: "identify"}
}

// counted writes a number of things.
func counted(n int, thing string) string {
	if n == 1 {
		return "1 " + thing
	}
	return fmt.Sprintf("%d %ss", n, thing)
}

// thereAre is counted with the verb before it.
func thereAre(n int, thing string) string {
	if n == 1 {
		return "is " + counted(n, thing)
	}
	return "are " + counted(n, thing)
}

func (p Program) rulesAdd() *cli.Command {
	return &cli.Command{
		Name: "add", Usage: "check a file of rules and save it, disabled", ArgsUsage: "FILE",
		Flags: []cli.Flag{purposeFlag()},
		Action: p.withRules(func(ctx context.Context, c *cli.Command, cl *client.Client, site uint64, file api.NewRuleFile) error {
			if _, err := cl.SaveRules(ctx, site, file); err != nil {
				return err
			}
			return p.listRules(ctx, c)
		}),
	}
}

// rulesChange makes a command that does one thing to a file of rules and then lists them.
func (p Program) rulesChange(name, usage string, change func(ctx context.Context, cl *client.Client, id uint64) error) *cli.Command {
	return &cli.Command{
		Name: name, Usage: usage, ArgsUsage: "NAME",
		Action: func(ctx context.Context, c *cli.Command) error {
			cl, file, err := connectRules(ctx, c)
			if err != nil {
				return err
			}
			if err := change(ctx, cl, file.ID); err != nil {
				return err
			}
			return p.listRules(ctx, c)
		},
	}
}

func (p Program) rulesShow() *cli.Command {
	return &cli.Command{
		Name: "show", Usage: "write a file of rules out as it was added", ArgsUsage: "NAME",
		Action: func(ctx context.Context, c *cli.Command) error {
			_, file, err := connectRules(ctx, c)
			if err != nil {
				return err
			}
			_, err = fmt.Fprintln(p.Out, strings.TrimRight(visible(file.Text, true), "\n"))
			return err
		},
	}
}

// connectRules makes a client and finds the file of rules that the first argument names.
func connectRules(ctx context.Context, c *cli.Command) (*client.Client, api.RuleFile, error) {
	if c.Args().Len() != 1 {
		return nil, api.RuleFile{}, wrongUse("want the name of a file of rules: airdrift rules lists them")
	}
	cl, site, err := connectSite(ctx, c)
	if err != nil {
		return nil, api.RuleFile{}, err
	}
	list, err := cl.Rules(ctx, site.ID)
	if err != nil {
		return nil, api.RuleFile{}, err
	}
	at := slices.IndexFunc(list, func(f api.RuleFile) bool { return f.Name == c.Args().First() })
	if at < 0 {
		return nil, api.RuleFile{}, fmt.Errorf("site %s has no file of rules %q: airdrift rules lists them", site.Name, c.Args().First())
	}
	return cl, list[at], nil
}

func (p Program) leasesCommand() *cli.Command {
	return &cli.Command{
		Name:  "leases",
		Usage: "what the site's DHCP server has given out: names, and MAC addresses beyond routers",
		Commands: []*cli.Command{
			{
				Name: "import", Usage: "read the lease file of dnsmasq, ISC dhcpd or Kea; it takes the place of the one before", ArgsUsage: "FILE",
				Action: func(ctx context.Context, c *cli.Command) error {
					file, err := p.givenFile(c, "want one file of leases")
					if err != nil {
						return err
					}
					defer file.Close()
					cl, site, err := connectSite(ctx, c)
					if err != nil {
						return err
					}
					got, err := cl.ImportLeases(ctx, site.ID, filepath.Base(c.Args().First()), file)
					if err != nil {
						return err
					}
					_, err = fmt.Fprintf(p.Out, "%d leases tell something of %d devices.\n", got.Leases, got.Devices)
					return err
				},
			},
			{
				Name: "delete", Usage: "delete the leases",
				Action: func(ctx context.Context, c *cli.Command) error {
					cl, site, err := connectSite(ctx, c)
					if err != nil {
						return err
					}
					return cl.RemoveLeases(ctx, site.ID)
				},
			},
		},
	}
}
