package command

import (
	"context"
	"io"
	"regexp"

	docs "github.com/urfave/cli-docs/v3"
	"github.com/urfave/cli/v3"
)

// commandHelp is what --help says of a command: what it is for and examples first, and the options that all commands have in one line.
const commandHelp = `{{template "helpNameTemplate" .}}

USAGE:
   {{.FullName}}{{if .VisibleCommands}} [command [command options]]{{else if .VisibleFlags}} [options]{{end}}{{if .ArgsUsage}} {{.ArgsUsage}}{{end}}{{if .Description}}

   {{template "descriptionTemplate" .}}{{end}}{{if .VisibleCommands}}

COMMANDS:{{template "visibleCommandTemplate" .}}{{end}}{{if .VisibleFlags}}

OPTIONS:{{template "visibleFlagTemplate" .}}{{end}}{{if .VisiblePersistentFlags}}

FOR EVERY COMMAND (airdrift manual says what they do):
   {{range .VisiblePersistentFlags}}--{{index .Names 0}} {{end}}{{end}}
`

// programHelp is what --help says of the program.
const programHelp = `{{template "helpNameTemplate" .}}

USAGE: airdrift [options] [command [command options]]

COMMANDS:{{template "visibleCommandTemplate" .}}

FOR EVERY COMMAND (airdrift manual says more):
   {{range $i, $flag := .VisibleFlags}}{{if $i}}   {{end}}--{{index $flag.Names 0}}{{end}}
   Each may be set in the environment: AIRDRIFT_DATA, AIRDRIFT_SERVER, AIRDRIFT_TOKEN_FILE, AIRDRIFT_PIN, AIRDRIFT_SITE.
`

// repeated is how the library says that an option may be given again, which its text says too.
var repeated = regexp.MustCompile(` \[ --[^\]]* \]`)

func init() {
	cli.RootCommandHelpTemplate = programHelp
	cli.CommandHelpTemplate = commandHelp
	cli.SubcommandHelpTemplate = commandHelp
	usual := cli.FlagStringer
	cli.FlagStringer = func(f cli.Flag) string { return repeated.ReplaceAllString(usual(f), "") }
}

// manualCommand writes what the commands say of themselves as a page for man, which the package brings along.
func (p Program) manualCommand() *cli.Command {
	return &cli.Command{
		Name: "manual", Usage: "write the manual page of all commands: airdrift manual | man -l -",
		Action: func(_ context.Context, c *cli.Command) error {
			page, err := docs.ToManWithSection(c.Root(), 1)
			if err != nil {
				return err
			}
			_, err = io.WriteString(p.Out, page)
			return err
		},
	}
}
