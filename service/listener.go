package service

import (
	"net"
	"sync"
	"time"
)

const (
	// maxConns is how many connections one client may have. Of more, the one on which nothing has moved for longest is closed,
	// so that who asks and reads nothing loses his own and keeps nobody out.
	maxConns = 128
	// writeWait is how long a client may take to read one piece of an answer, of some 32 KiB at most.
	writeWait = 30 * time.Second
)

// limited is a listener that bounds the connections of each client, and how long a client may leave an answer unread.
type limited struct {
	net.Listener

	mu sync.Mutex // guards by
	by map[string]map[*limitedConn]struct{}
}

func limit(l net.Listener) *limited {
	return &limited{Listener: l, by: map[string]map[*limitedConn]struct{}{}}
}

// Accept gives the next connection.
func (l *limited) Accept() (net.Conn, error) {
	conn, err := l.Listener.Accept()
	if err != nil {
		return nil, err
	}
	c := &limitedConn{Conn: conn, client: network(originFrom(conn.RemoteAddr().String())), from: l, moved: time.Now()}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.by[c.client] == nil {
		l.by[c.client] = map[*limitedConn]struct{}{}
	}
	l.by[c.client][c] = struct{}{}
	if len(l.by[c.client]) > maxConns {
		l.stalestLocked(c.client).close()
	}
	return c, nil
}

// stalestLocked takes out the connection of a client on which nothing has moved for longest.
func (l *limited) stalestLocked(client string) *limitedConn {
	var stalest *limitedConn
	for c := range l.by[client] {
		if stalest == nil || c.lastMoved().Before(stalest.lastMoved()) {
			stalest = c
		}
	}
	delete(l.by[client], stalest)
	return stalest
}

func (l *limited) forget(c *limitedConn) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.by[c.client], c)
	if len(l.by[c.client]) == 0 {
		delete(l.by, c.client)
	}
}

// limitedConn is one connection.
type limitedConn struct {
	net.Conn
	client string
	from   *limited

	mu    sync.Mutex // guards all below
	moved time.Time  // when a byte last went either way
	until time.Time  // the deadline for writing that the server has set; zero for none
}

func (c *limitedConn) lastMoved() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.moved
}

func (c *limitedConn) move(n int) {
	if n > 0 {
		c.mu.Lock()
		defer c.mu.Unlock()
		c.moved = time.Now()
	}
}

func (c *limitedConn) Read(b []byte) (int, error) {
	n, err := c.Conn.Read(b)
	c.move(n)
	return n, err
}

// maxPiece is how much is written before the deadline is set anew, in bytes.
const maxPiece = 32 << 10

func (c *limitedConn) Write(b []byte) (written int, err error) {
	for len(b) > 0 && err == nil {
		piece := b[:min(len(b), maxPiece)]
		c.mu.Lock()
		deadline := time.Now().Add(writeWait)
		if !c.until.IsZero() && c.until.Before(deadline) {
			deadline = c.until
		}
		c.mu.Unlock()
		if err = c.Conn.SetWriteDeadline(deadline); err != nil {
			return written, err
		}
		var n int
		n, err = c.Conn.Write(piece)
		c.move(n)
		written, b = written+n, b[n:]
	}
	return written, err
}

func (c *limitedConn) setUntil(t time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.until = t
}

// SetWriteDeadline sets when writing ends at the latest.
func (c *limitedConn) SetWriteDeadline(t time.Time) error {
	c.setUntil(t)
	return c.Conn.SetWriteDeadline(t)
}

// SetDeadline sets when reading and writing end at the latest.
func (c *limitedConn) SetDeadline(t time.Time) error {
	c.setUntil(t)
	return c.Conn.SetDeadline(t)
}

// Close closes the connection.
func (c *limitedConn) Close() error {
	c.from.forget(c)
	return c.Conn.Close()
}

// close is Close for who holds the listener's lock and has forgotten it already.
func (c *limitedConn) close() { _ = c.Conn.Close() }
