//go:build unix

package localsocket

import (
	"fmt"
	"os"
	"syscall"
)

// check gives the owner of a directory in which nobody else has any right.
func check(dir string) (owner int, err error) {
	info, err := os.Lstat(dir)
	if err != nil {
		return 0, err
	}
	stat, ok := info.Sys().(*syscall.Stat_t)
	if !ok || !info.IsDir() || info.Mode().Perm()&0o077 != 0 {
		return 0, fmt.Errorf("%s is no directory that is closed to others: was it put there by somebody else?", dir)
	}
	return int(stat.Uid), nil
}
