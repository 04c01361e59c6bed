package command

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"strings"

	"golang.org/x/term"
)

// secretReader reads secrets from standard input, a line each, unseen where that is a terminal.
type secretReader struct {
	in    io.Reader
	lines *bufio.Reader
	ask   io.Writer
}

func (p Program) secrets() *secretReader { return &secretReader{p.In, bufio.NewReader(p.In), p.Err} }

// read asks for what is wanted, such as a password.
func (r *secretReader) read(prompt, what string) (string, error) {
	if file, ok := r.in.(*os.File); ok && term.IsTerminal(int(file.Fd())) {
		fmt.Fprint(r.ask, prompt)
		secret, err := term.ReadPassword(int(file.Fd()))
		fmt.Fprintln(r.ask)
		return string(secret), err
	}
	line, err := r.lines.ReadString('\n')
	if line == "" && err != nil {
		return "", wrongUse("no %s came on standard input", what)
	}
	return strings.TrimRight(line, "\r\n"), nil
}
