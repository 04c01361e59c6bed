package hostwire

import (
	"errors"
	"fmt"
	"syscall"

	"golang.org/x/sys/unix"
)

// KeepRights keeps the programs that this one starts, the database among them, from inheriting its rights: it empties the
// ambient set of capabilities(7). This process keeps what it has.
func KeepRights() error {
	_, _, errno := syscall.AllThreadsSyscall6(unix.SYS_PRCTL, unix.PR_CAP_AMBIENT, unix.PR_CAP_AMBIENT_CLEAR_ALL, 0, 0, 0, 0)
	// A program built with cgo cannot do this for all its threads; the ones we release are built without.
	if errno != 0 && !errors.Is(errno, syscall.ENOTSUP) {
		return fmt.Errorf("keep this program's rights from those it starts: %w", errno)
	}
	return nil
}
