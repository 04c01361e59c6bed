//go:build linux

// Package nstest runs a test again in a network namespace of its own, where it may make interfaces and send what it
// likes without a packet reaching any real network.
package nstest

import (
	"os"
	"os/exec"
	"syscall"
	"testing"
)

const mark = "AIRDRIFT_TEST_IN_NAMESPACE"

// Inside reports whether the test already runs in a namespace of its own. Where it does not, Inside runs the test
// again in one, as a process of its own, and passes its outcome on; the caller then returns at once.
func Inside(t *testing.T) bool {
	t.Helper()
	if os.Getenv(mark) != "" {
		return true
	}
	if os.Geteuid() != 0 {
		t.Skip("making a network namespace needs root")
	}
	cmd := exec.Command(os.Args[0], "-test.run", "^"+t.Name()+"$", "-test.v")
	cmd.Env = append(os.Environ(), mark+"=1")
	cmd.SysProcAttr = &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWNET, Pdeathsig: syscall.SIGKILL}
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Errorf("in a namespace of its own: %v\n%s", err, out)
	}
	return false
}
