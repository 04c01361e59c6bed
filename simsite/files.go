package simsite

import (
	"encoding/binary"
	"io"
	"net"
	"strconv"
	"strings"
)

// serveRPC answers remote procedure calls over TCP (RFC 5531) as the list of programs (RFC 1833, 3) and as the one that gives out directories
// (RFC 1813, 5): "mount" is the port of the latter, "exports" what it gives, written "/srv/seeds=*; /home=10.40.1.0/24 acorn".
func serveRPC(conn net.Conn, s Service) {
	be := binary.BigEndian
	for {
		head := make([]byte, 4)
		if _, err := io.ReadFull(conn, head); err != nil {
			return
		}
		length := be.Uint32(head) &^ (1 << 31)
		if length < 40 || length > 1<<12 {
			return
		}
		call := make([]byte, length)
		if _, err := io.ReadFull(conn, call); err != nil {
			return
		}
		answer := append(call[:4:4], 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0)
		words := func(all ...uint32) {
			for _, w := range all {
				answer = be.AppendUint32(answer, w)
			}
		}
		text := func(t string) {
			words(uint32(len(t)))
			answer = append(answer, t...)
			answer = append(answer, make([]byte, (4-len(t)%4)%4)...)
		}
		switch program, procedure := be.Uint32(call[12:]), be.Uint32(call[20:]); {
		case program == 100000 && procedure == 4:
			port, _ := strconv.ParseUint(s.Tells["mount"], 10, 16) // 0 where it is not given
			words(0, 1, 100000, 2, 6, 111, 1, 100003, 4, 6, 2049, 1, 100005, 1, 17, uint32(port), 1, 100005, 3, 6, uint32(port), 0)
		case program == 100005 && procedure == 5:
			words(0)
			for export := range strings.SplitSeq(s.Tells["exports"], ";") {
				path, who, ok := strings.Cut(strings.TrimSpace(export), "=")
				if !ok {
					continue
				}
				words(1)
				text(path)
				for _, name := range strings.Fields(who) {
					words(1)
					text(name)
				}
				words(0)
			}
			words(0)
		default:
			words(1) // nobody has that program
		}
		if _, err := conn.Write(append(be.AppendUint32(nil, uint32(len(answer))|1<<31), answer...)); err != nil {
			return
		}
	}
}
