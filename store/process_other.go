//go:build !unix

package store

import "os"

// terminate ends a process; here it cannot be asked to. Its data outlives that, as it does a power cut.
func terminate(pid int) error {
	p, err := os.FindProcess(pid)
	if err != nil {
		return os.ErrProcessDone
	}
	return p.Kill()
}
