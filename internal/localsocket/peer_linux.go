package localsocket

import (
	"fmt"
	"net"
	"os"

	"golang.org/x/sys/unix"
)

// Peer gives the user at the other end of a connection, by the system's word (unix(7), SO_PEERCRED).
func Peer(conn net.Conn) (uid int, ok bool) {
	c, isUnix := conn.(*net.UnixConn)
	if !isUnix {
		return 0, false
	}
	raw, err := c.SyscallConn()
	if err != nil {
		return 0, false
	}
	uid = -1
	err = raw.Control(func(fd uintptr) {
		if cred, err := unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED); err == nil {
			uid = int(cred.Uid)
		}
	})
	return uid, err == nil && uid >= 0
}

// shortPath gives a directory a path of a few characters, as the name of a socket has room for 108 (unix(7)). It goes by the
// directory that is open, so nobody can put another in its place.
func shortPath(dir string) (path string, done func(), err error) {
	if _, err := os.Stat("/proc/self/fd"); err != nil {
		return dir, func() {}, nil // a system without it does with shorter paths
	}
	fd, err := unix.Open(dir, unix.O_PATH|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return "", nil, &os.PathError{Op: "open", Path: dir, Err: err}
	}
	return fmt.Sprintf("/proc/self/fd/%d", fd), func() { _ = unix.Close(fd) }, nil
}
