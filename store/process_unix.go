//go:build unix

package store

import (
	"errors"
	"os"
	"syscall"
)

// terminate asks a process to end. One that has ended already gives os.ErrProcessDone.
func terminate(pid int) error {
	err := syscall.Kill(pid, syscall.SIGTERM)
	if errors.Is(err, syscall.ESRCH) {
		return os.ErrProcessDone
	}
	return err
}
