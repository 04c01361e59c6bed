package command_test

import (
	"bytes"
	"os"
	"slices"
	"strings"
	"testing"

	"airdrift/command"
)

// alone carries out a command line without a service.
func alone(t *testing.T, args ...string) (out, errs string, code int) {
	t.Helper()
	var stdout, stderr bytes.Buffer
	code = command.Run(t.Context(), command.Program{In: strings.NewReader(""), Out: &stdout, Err: &stderr}, append([]string{"airdrift"}, args...))
	return stdout.String(), stderr.String(), code
}

// commandsOf gives the names that the help of a command lists.
func commandsOf(help string) []string {
	_, list, found := strings.Cut(help, "COMMANDS:\n")
	if !found {
		return nil
	}
	list, _, _ = strings.Cut(list, "\n\n")
	var names []string
	for line := range strings.Lines(list) {
		if name, found := strings.CutPrefix(line, "   "); found && !strings.HasPrefix(name, " ") {
			names = append(names, strings.TrimSuffix(strings.Fields(name)[0], ","))
		}
	}
	return names
}

// The help of each command fits a screen, and each command is in the manual, which says nothing of the machine that wrote it.
func TestHelpAndManual(t *testing.T) {
	manual, errs, code := alone(t, "manual")
	if code != 0 {
		t.Fatal(errs)
	}
	var all int
	var look func(args []string)
	look = func(args []string) {
		called := strings.Join(args, " ")
		help, errs, code := alone(t, append(slices.Clone(args), "--help")...)
		if code != 0 {
			t.Errorf("%s --help: exit code %d, %s", called, code, errs)
		}
		if lines := strings.Count(help, "\n"); lines > 46 || strings.Contains(help, "[ --") {
			t.Errorf("the help of %q has %d lines:\n%s", called, lines, help)
		}
		for _, name := range commandsOf(help) {
			if name == "help" {
				continue
			}
			all++
			if !strings.Contains(manual, ".SH "+name+"\n") && !strings.Contains(manual, ".SS "+name+"\n") {
				t.Errorf("the manual has nothing of %s %s", called, name)
			}
			look(append(slices.Clone(args), name))
		}
	}
	look(nil)
	if all < 60 {
		t.Errorf("only %d commands were looked at", all)
	}
	if home, err := os.UserHomeDir(); err == nil && home != "/" && strings.Contains(manual, home) {
		t.Error("the manual has the path of a home directory in it")
	}
}

// Shells are told how to complete commands, and what there is to choose from.
func TestCompletion(t *testing.T) {
	for _, shell := range []string{"bash", "zsh", "fish"} {
		if out, errs, code := alone(t, "completion", shell); code != 0 || !strings.Contains(out, "airdrift") {
			t.Errorf("completion %s: exit code %d, %s%s", shell, code, out, errs)
		}
	}
	if out, _, _ := alone(t, "register", "--generate-shell-completion"); !strings.Contains(out, "import") {
		t.Errorf("after register: %q", out)
	}
	if out, _, _ := alone(t, "devices", "--stan", "--generate-shell-completion"); !strings.Contains(out, "--standing") {
		t.Errorf("after devices --stan: %q", out)
	}
}
