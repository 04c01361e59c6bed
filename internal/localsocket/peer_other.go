//go:build !linux

package localsocket

import "net"

// Peer is not told here; the rights of the socket's directory say who gets to it.
func Peer(net.Conn) (uid int, ok bool) { return 0, false }

func shortPath(dir string) (path string, done func(), err error) { return dir, func() {}, nil }
