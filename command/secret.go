package command

import (
	"bufio"
	"fmt"
	"os"
	"strings"

	"golang.org/x/term"
)

// readSecret reads one line from standard input, unseen where that is a terminal.
func (p Program) readSecret(prompt string) (string, error) {
	if file, ok := p.In.(*os.File); ok && term.IsTerminal(int(file.Fd())) {
		fmt.Fprint(p.Err, prompt)
		secret, err := term.ReadPassword(int(file.Fd()))
		fmt.Fprintln(p.Err)
		return string(secret), err
	}
	line, err := bufio.NewReader(p.In).ReadString('\n')
	if line == "" && err != nil {
		return "", wrongUse("no password came on standard input")
	}
	return strings.TrimRight(line, "\r\n"), nil
}
