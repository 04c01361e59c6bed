// Package command is the command line: one more client of the service.
package command

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"airdrift/api"
	"airdrift/client"
	"airdrift/service"
)

// Exit codes.
const (
	exitFailed     = 1
	exitWrongUse   = 2
	exitFound      = 3 // done, and there is what was expected not to be
	exitUnfinished = 4 // a sweep was stopped or interrupted before its end
	exitBusy       = 5 // refused because of what runs now
)

// Program is what the commands need of the world around them.
type Program struct {
	In      io.Reader
	Out     io.Writer // results
	Err     io.Writer // everything else
	Console fs.FS     // the built console; nil serves none
}

// Run carries out a command line and gives the exit code: 0 done, 1 failed, 2 wrong use, 3 found what was expected not to be there,
// 4 a sweep was stopped or interrupted before its end, 5 refused because of what runs now.
func Run(ctx context.Context, p Program, args []string) int {
	err := p.root().Run(ctx, args)
	if err == nil {
		return 0
	}
	fmt.Fprintln(p.Err, "airdrift:", visible(err.Error(), true))
	return exitCode(err)
}

func exitCode(err error) int {
	var use *useError
	var problem *client.Problem
	var found *foundError
	var unfinished *unfinishedError
	switch {
	case errors.As(err, &found):
		return exitFound
	case errors.As(err, &unfinished):
		return exitUnfinished
	case errors.As(err, &problem) && isBusy(problem):
		return exitBusy
	case errors.As(err, &use):
		return exitWrongUse
	case errors.As(err, &problem) && (problem.Status == 400 || problem.Status == 422):
		return exitWrongUse
	}
	return exitFailed
}

// isBusy reports whether a request was refused because something else goes on: it may be tried again later.
func isBusy(p *client.Problem) bool {
	return slices.Contains([]string{"sweep-running", "key-running"}, strings.TrimPrefix(p.Type, "urn:airdrift:problem:"))
}

// useError is a command line that cannot be understood.
type useError struct{ text string }

func (e *useError) Error() string { return e.text }

func wrongUse(format string, args ...any) error { return &useError{fmt.Sprintf(format, args...)} }

func (p Program) root() *cli.Command {
	root := &cli.Command{
		Name:                  "airdrift",
		Usage:                 "sweep a building's network, tell what is there, and which of it nobody manages",
		Version:               service.Version,
		EnableShellCompletion: true,
		// Makers' names have commas in them.
		DisableSliceFlagSeparator: true,
		Reader:                    p.In,
		Writer:                    p.Out,
		ErrWriter:                 p.Err,
		ExitErrHandler:            func(context.Context, *cli.Command, error) {}, // Run tells errors, once
		OnUsageError:              tellUse,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "data", Usage: "directory of the service's data", Sources: cli.EnvVars("AIRDRIFT_DATA"), Value: defaultData(),
				DefaultText: "/var/lib/airdrift for root, ~/.local/share/airdrift for others"},
			&cli.StringFlag{Name: "server", Usage: "https URL of a service on another machine; that of --data where left out", Sources: cli.EnvVars("AIRDRIFT_SERVER")},
			&cli.StringFlag{Name: "token-file", Usage: "file with the token for --server", Sources: cli.EnvVars("AIRDRIFT_TOKEN_FILE")},
			&cli.StringFlag{Name: "pin", Usage: "SHA-256 of the key of the certificate that --server must show, for one that nobody has signed", Sources: cli.EnvVars("AIRDRIFT_PIN")},
			&cli.StringFlag{Name: "site", Usage: "name or number of the site; may be left out where there is only one", Sources: cli.EnvVars("AIRDRIFT_SITE")},
			&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "form of the result: table, json or csv", Value: "table", Validator: checkOutput},
		},
		Commands: []*cli.Command{
			p.serveCommand(), p.demoCommand(), p.buildingCommand(), p.footingCommand(), p.siteCommand(), p.fenceCommand(), p.overviewCommand(), p.sweepCommand(), p.protocolsCommand(),
			p.sweepsCommand(), p.findingsCommand(), p.driftCommand(), p.completeCommand(), p.reportCommand(), p.extractCommand(), p.viewsCommand(), p.groupsCommand(), p.changesCommand(), p.tenuresCommand(), p.timesCommand(), p.firmwareCommand(), p.opennessCommand(), p.backupCommand(), p.restoreCommand(), p.devicesCommand(), p.deviceCommand(), p.explainCommand(), p.credentialsCommand(), p.rulesCommand(), p.leasesCommand(), p.registerCommand(), p.vendorCommand(), p.userCommand(),
			p.tokenCommand(), p.auditCommand(), p.passwordCommand(), p.manualCommand(),
		},
	}
	root.Action = func(_ context.Context, c *cli.Command) error { return cli.ShowRootCommandHelp(c) }
	strict(root, root.Name)
	return root
}

// strict has a command and those below it refuse what they do not understand: arguments beyond those they take, and names of commands that there are not.
func strict(c *cli.Command, called string) {
	c.OnUsageError = tellUse
	for _, sub := range c.Commands {
		strict(sub, called+" "+sub.Name)
	}
	act := c.Action
	for _, sub := range c.Commands {
		if act == nil && (sub.Name == "list" || sub.Name == "show") && sub.ArgsUsage == "" { // a noun alone lists what there is
			act = sub.Action
		}
	}
	if act == nil {
		act = func(context.Context, *cli.Command) error {
			return wrongUse("say what to do: %s --help lists it", called)
		}
	}
	most, hasOwn := mostArguments(c.ArgsUsage), len(c.Commands) > 0
	c.HideHelpCommand = !hasOwn // --help does, and what is not a noun has no commands
	c.Action = func(ctx context.Context, c *cli.Command) error {
		if n := c.Args().Len(); most >= 0 && n > most {
			return tooMany(c, called, most, hasOwn)
		}
		return act(ctx, c)
	}
}

// tooMany says what is wrong with the first argument that a command does not take.
func tooMany(c *cli.Command, called string, most int, hasOwn bool) error {
	surplus := c.Args().Get(most)
	if most > 0 || !hasOwn || !mayBeCommand(surplus) {
		return wrongUse("%s takes no %q: see %s --help", strings.TrimPrefix(called, "airdrift "), surplus, called)
	}
	near := ""
	if name := cli.SuggestCommand(c.Commands, surplus); name != "" && surplus != "" && name[0] == surplus[0] { // the nearest of all may be far
		near = fmt.Sprintf(", did you mean %s", name)
	}
	return wrongUse("there is no command %s%s: %s --help lists them", strings.TrimPrefix(called+" "+surplus, "airdrift "), near, called)
}

// mayBeCommand reports whether a word is like the name of a command: lower-case letters and hyphens. An address is none.
func mayBeCommand(word string) bool {
	return strings.Trim(word, "abcdefghijklmnopqrstuvwxyz-") == ""
}

// mostArguments gives how many arguments a command takes by what its help says; -1 for any number.
func mostArguments(usage string) int {
	switch {
	case strings.Contains(usage, "..."):
		return -1
	case strings.Contains(usage, " | "):
		return 1
	}
	return len(strings.Fields(usage))
}

func tellUse(_ context.Context, c *cli.Command, err error, _ bool) error {
	return wrongUse("%v: see %s --help", err, c.FullName())
}

func checkOutput(form string) error {
	switch form {
	case "table", "json", "csv":
		return nil
	}
	return fmt.Errorf("%q is not a form of output: want table, json or csv", form)
}

// defaultData is where services of this user keep their data.
func defaultData() string {
	if os.Geteuid() == 0 {
		return "/var/lib/airdrift"
	}
	if home, err := os.UserHomeDir(); err == nil {
		return filepath.Join(home, ".local", "share", "airdrift")
	}
	return "airdrift-data"
}

// connect makes a client for the service that the options name: that of the data directory by its socket, another by TLS.
func connect(c *cli.Command) (*client.Client, error) {
	url := c.String("server")
	if url == "" {
		return client.Local(c.String("data")), nil
	}
	if c.String("token-file") == "" {
		return nil, wrongUse("--server wants --token-file: a file with a token that airdrift token add made")
	}
	token, err := os.ReadFile(c.String("token-file"))
	if err != nil {
		return nil, fmt.Errorf("token: %w", err)
	}
	cl, err := client.New(url, strings.TrimSpace(string(token)), c.String("pin"))
	if err != nil {
		return nil, wrongUse("--server: %v", err)
	}
	return cl, nil
}

// connectSite makes a client and finds the site that the options name.
func connectSite(ctx context.Context, c *cli.Command) (*client.Client, api.Site, error) {
	cl, err := connect(c)
	if err != nil {
		return nil, api.Site{}, err
	}
	site, err := findSite(ctx, cl, c.String("site"))
	return cl, site, err
}

func findSite(ctx context.Context, cl *client.Client, wanted string) (api.Site, error) {
	sites, err := cl.Sites(ctx)
	if err != nil {
		return api.Site{}, err
	}
	if wanted == "" && len(sites) == 1 {
		return sites[0], nil
	}
	names := make([]string, len(sites))
	for i, s := range sites {
		if wanted != "" && (strings.EqualFold(s.Name, wanted) || strconv.FormatUint(s.ID, 10) == wanted) {
			return s, nil
		}
		names[i] = s.Name
	}
	switch {
	case len(sites) == 0:
		return api.Site{}, wrongUse("there is no site yet: enter one with airdrift site add NAME --network 10.40.1.0/24")
	case wanted == "":
		return api.Site{}, wrongUse("say which site with --site: there are %s", strings.Join(names, ", "))
	}
	return api.Site{}, wrongUse("there is no site %q: there are %s", wanted, strings.Join(names, ", "))
}
