package command

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"syscall"

	"github.com/vishvananda/netlink"

	"airdrift/hostwire"
	"airdrift/service"
	"airdrift/simsite"
)

// namespaceMark tells the program that it runs in a network namespace made for it.
const namespaceMark = "AIRDRIFT_IN_NAMESPACE"

func inNamespace() bool { return os.Getenv(namespaceMark) != "" }

// reenter runs this command line again in a network namespace of its own, from which no real network can be reached.
func reenter(ctx context.Context, p Program) error {
	if os.Geteuid() != 0 {
		return wrongUse("--kernel makes a network namespace and an interface in it, which needs root")
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	cmd := exec.CommandContext(ctx, self, os.Args[1:]...)
	cmd.Env = append(os.Environ(), namespaceMark+"=1")
	cmd.Stdin, cmd.Stdout, cmd.Stderr = p.In, p.Out, p.Err
	cmd.SysProcAttr = &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWNET}
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGTERM) }
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("in the network namespace: %w", err)
	}
	return nil
}

// kernelVantages plugs the building into a TAP interface of this namespace. Loopback is switched on for the service's
// own use.
func kernelVantages(site *simsite.Site) (service.Vantages, error) {
	lo, err := netlink.LinkByName("lo")
	if err != nil {
		return nil, fmt.Errorf("loopback: %w", err)
	}
	if err := netlink.LinkSetUp(lo); err != nil {
		return nil, fmt.Errorf("loopback: %w", err)
	}
	if _, err := site.AttachTAP(tapName, site.Link()); err != nil {
		return nil, err
	}
	w, err := hostwire.New(tapName)
	if err != nil {
		return nil, err
	}
	return service.FixedVantages{w}, nil
}
