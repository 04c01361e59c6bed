package simsite

import (
	"bytes"
	"io"
	"net"
	"time"
)

// dripEvery is how long a dripping service takes for each byte.
const dripEvery = 400 * time.Millisecond

// serveEndless says one line that never ends.
func serveEndless(conn net.Conn, s Service) {
	line := bytes.Repeat([]byte(s.Says+" "), 1<<14/(len(s.Says)+1))
	for {
		if _, err := conn.Write(line); err != nil {
			return
		}
	}
}

// serveDrip says its greeting a byte at a time, slower than anybody wants to wait.
func serveDrip(conn net.Conn, s Service) {
	for _, b := range []byte(s.Says + "\r\n") {
		time.Sleep(dripEvery)
		if _, err := conn.Write([]byte{b}); err != nil {
			return
		}
	}
}

// serveGarbage says bytes that are no text in any encoding, with its greeting among them.
func serveGarbage(conn net.Conn, s Service) {
	noise := []byte{0xff, 0xfe, 0x00, 0xc3, 0x28, 0xe2, 0x82, 0x07, 0x1b, 0xf0, 0x28}
	if _, err := conn.Write(append(append(noise, s.Says...), "\r\n"...)); err == nil {
		_, _ = io.Copy(io.Discard, conn)
	}
}
