//go:build unix

package store

import (
	"errors"
	"os"
	"syscall"
)

// ownGroup keeps a program out of this one's process group.
func ownGroup() *syscall.SysProcAttr { return &syscall.SysProcAttr{Setpgid: true} }

// terminate asks a process to end. One that has ended already gives os.ErrProcessDone.
func terminate(pid int) error {
	err := syscall.Kill(pid, syscall.SIGTERM)
	if errors.Is(err, syscall.ESRCH) {
		return os.ErrProcessDone
	}
	return err
}
