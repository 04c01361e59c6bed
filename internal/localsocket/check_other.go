//go:build !unix

package localsocket

import "os"

// check finds the directory; here its rights are those of the user's own directories.
func check(dir string) (owner int, err error) {
	_, err = os.Lstat(dir)
	return os.Geteuid(), err
}
