// Package localsocket lets programs of one machine speak to the service of a data directory over a Unix socket, where the system
// itself says who is at the other end: nothing secret is sent, and nobody else can take the service's place.
package localsocket

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
)

const (
	dirName  = "local"
	sockName = "service.sock"
)

// ErrNone is returned where no service listens for the data directory.
var ErrNone = errors.New("no service runs on this data directory")

// Listen makes the socket of a data directory. Only the user that runs the service, and root, get to it.
func Listen(data string) (net.Listener, error) {
	dir := filepath.Join(data, dirName)
	if err := os.Mkdir(dir, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return nil, fmt.Errorf("local socket: %w", err)
	}
	if err := os.Chmod(dir, 0o700); err != nil {
		return nil, fmt.Errorf("local socket: %w", err)
	}
	owner, err := check(dir)
	if err != nil {
		return nil, err
	}
	if owner != os.Geteuid() {
		return nil, fmt.Errorf("local socket: %s belongs to another user", dir)
	}
	// One that a killed service has left behind is nobody's; whoever holds the data directory's lock is the only service.
	if err := os.Remove(filepath.Join(dir, sockName)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("local socket: %w", err)
	}
	path, done, err := shortPath(dir)
	if err != nil {
		return nil, fmt.Errorf("local socket: %w", err)
	}
	defer done()
	l, err := net.ListenUnix("unix", &net.UnixAddr{Name: filepath.Join(path, sockName), Net: "unix"})
	if err != nil {
		return nil, fmt.Errorf("local socket: %w", err)
	}
	l.SetUnlinkOnClose(false) // the path it was made by is gone by then
	return &listener{l, filepath.Join(dir, sockName)}, nil
}

// listener takes its socket away when it is closed.
type listener struct {
	*net.UnixListener
	path string
}

func (l *listener) Close() error {
	err := l.UnixListener.Close()
	if gone := os.Remove(l.path); gone != nil && !errors.Is(gone, fs.ErrNotExist) {
		err = errors.Join(err, gone)
	}
	return err
}

// Dial connects to the service of a data directory. The directory of the socket has to belong to this user, or where this is
// root to whomever runs the service, with no right in it for others, and the service has to run as its owner.
func Dial(ctx context.Context, data string) (net.Conn, error) {
	dir := filepath.Join(data, dirName)
	owner, err := check(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, ErrNone
	}
	if err != nil {
		return nil, err
	}
	if me := os.Geteuid(); me > 0 && owner != me {
		return nil, fmt.Errorf("%s belongs to another user: ask whoever runs the service for a token, and use --server", dir)
	}
	path, done, err := shortPath(dir)
	if err != nil {
		return nil, err
	}
	defer done()
	var d net.Dialer
	conn, err := d.DialContext(ctx, "unix", filepath.Join(path, sockName))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNone, err)
	}
	if peer, ok := Peer(conn); ok && peer != owner {
		_ = conn.Close()
		return nil, fmt.Errorf("who listens at %s is not the user it belongs to", dir)
	}
	return conn, nil
}

// MayCommand reports whether the user at the other end of a connection may do everything: the one that runs the service, and
// root. Where the system does not tell, the rights of the directory have let nobody else in.
func MayCommand(conn net.Conn) bool {
	peer, ok := Peer(conn)
	return !ok || peer == 0 || peer == os.Geteuid()
}
