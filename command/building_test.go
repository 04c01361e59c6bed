package command_test

import (
	"bufio"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"
)

// TestBuilding plugs the kernel into the building in a namespace, and meets a device there with a program that knows nothing
// of simulations.
func TestBuilding(t *testing.T) {
	nsenter, err := exec.LookPath("nsenter")
	if err != nil || os.Geteuid() != 0 {
		t.Skip("making a network namespace needs root, and entering it nsenter (package util-linux)")
	}
	name := fmt.Sprintf("airdrift-test-%d", os.Getpid())
	building := exec.CommandContext(t.Context(), program, "building", "--namespace", name)
	stderr, err := building.StderrPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := building.Start(); err != nil {
		t.Fatal(err)
	}
	lines := bufio.NewScanner(stderr)
	for lines.Scan() && !strings.Contains(lines.Text(), "Ctrl-C ends it") {
	}
	out, err := exec.CommandContext(t.Context(), nsenter, "--net=/var/run/netns/"+name, "bash", "-c", "head -n 1 < /dev/tcp/10.40.1.10/25").CombinedOutput()
	if err != nil || !strings.HasPrefix(string(out), "220 acorn.fernhollow.example") {
		t.Errorf("the mail server of the building says %q, %v", out, err)
	}
	if r := airdrift(t, "", "building", "--namespace", name); r.code != 1 || !strings.Contains(r.err, "is it there already?") {
		t.Errorf("a second building in the namespace: exit code %d, %s", r.code, r.err)
	}
	if err := building.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	if err := building.Wait(); err != nil {
		t.Errorf("told to end, it ended with %v", err)
	}
	if _, err := os.Stat("/var/run/netns/" + name); err == nil {
		t.Error("the namespace is left behind")
	}
}
