package probe

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/netip"
	"strings"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keyRPCProgram = "rpc.program"
	keyNFSExport  = "nfs.export"
)

var _ = register(Protocol{
	Name: "nfs", Source: evidence.SourceRPC, Cost: Middling,
	Ports: []uint16{111}, Usual: []uint16{111}, Talk: talkRPC,
	Parts: []string{"exports"},
	Facts: []evidence.Fact{
		{Key: keyRPCProgram, Says: "a program that can be called: its number or its name, version, and where it is; at most 32", Standard: "RFC 1833, 3.2", Example: "nfs 4 tcp/2049"},
		{Key: keyNFSExport, Says: "a directory that is given out, and to whom; at most 32", Standard: "RFC 1813, 5.2.5", Example: "/srv/seeds to everybody"},
	},
})

// Of remote procedure calls (RFC 5531, 9 and 11), and of the programs that are called (RFC 1833, 3; RFC 1813, 5).
const (
	rpcCall, rpcReply = 0, 1
	rpcVersion        = 2
	rpcLast           = 1 << 31 // marks the last fragment of a message

	rpcPortmap, rpcPortmapVersion, rpcDump = 100000, 2, 4
	rpcMount, rpcExports                   = 100005, 5

	maxExports = 32
	maxAllowed = 8 // names of whom a directory is given to
)

// rpcNames are programs by their number (IANA RPC Program Numbers).
var rpcNames = map[uint32]string{
	100000: "portmapper", 100001: "rstat", 100002: "rusers", 100003: "nfs", 100004: "ypserv", 100005: "mount", 100007: "ypbind", 100011: "rquota",
	100021: "nlockmgr", 100024: "status", 100227: "nfs acl",
}

// rpcName writes a program.
func rpcName(program uint32) string {
	if name := rpcNames[program]; name != "" {
		return name
	}
	return fmt.Sprint(program)
}

var errNotRPC = errors.New("what came back is no answer to a remote procedure call")

// rpcAsk calls a procedure without arguments as nobody in particular, and gives what it returns.
func rpcAsk(conn net.Conn, program, version, procedure uint32) (xdr, error) {
	id := rand.Uint32()
	call := make([]byte, 4, 44)
	for _, word := range []uint32{id, rpcCall, rpcVersion, program, version, procedure, 0, 0, 0, 0} {
		call = binary.BigEndian.AppendUint32(call, word)
	}
	binary.BigEndian.PutUint32(call, uint32(len(call)-4)|rpcLast)
	if _, err := conn.Write(call); err != nil {
		return nil, err
	}
	answer, err := readRPC(conn)
	if err != nil {
		return nil, err
	}
	r := xdr(answer)
	if r.word() != id || r.word() != rpcReply || r.word() != 0 {
		return nil, errNotRPC
	}
	r.word() // kind of the verifier
	r.text()
	if len(r) < 4 || r.word() != 0 {
		return nil, errNotRPC
	}
	return r, nil
}

// readRPC reads a message of at most maxAnswer bytes in its fragments.
func readRPC(r io.Reader) ([]byte, error) {
	var message []byte
	for {
		var head [4]byte
		if _, err := io.ReadFull(r, head[:]); err != nil {
			return nil, err
		}
		mark := binary.BigEndian.Uint32(head[:])
		length := int(mark &^ rpcLast)
		if length == 0 && mark&rpcLast == 0 || len(message)+length > maxAnswer {
			return nil, errNotRPC
		}
		start := len(message)
		message = append(message, make([]byte, length)...)
		if _, err := io.ReadFull(r, message[start:]); err != nil {
			return nil, err
		}
		if mark&rpcLast != 0 {
			return message, nil
		}
	}
}

// xdr is what is left of an answer (RFC 4506). What breaks off reads as zero, and ends.
type xdr []byte

func (x *xdr) word() uint32 {
	if len(*x) < 4 {
		*x = nil
		return 0
	}
	n := binary.BigEndian.Uint32(*x)
	*x = (*x)[4:]
	return n
}

func (x *xdr) text() string {
	length := int(x.word())
	if length < 0 || length > len(*x) {
		*x = nil
		return ""
	}
	text := string((*x)[:length])
	*x = (*x)[min(len(*x), (length+3)&^3):]
	return text
}

// talkRPC asks for the programs that can be called, and the one that gives out directories for which and to whom. Nothing is mounted.
func talkRPC(ctx context.Context, conn net.Conn, addr netip.AddrPort, f *found) {
	list, err := rpcAsk(conn, rpcPortmap, rpcPortmapVersion, rpcDump)
	if err != nil {
		return
	}
	conn.Close() // so that a device never holds two of ours at once
	port, version := readPrograms(list, f)
	if port == 0 || f.off("exports") || isControlPort(port) || byPort[port] != nil {
		return
	}
	further, err := f.dialer.Dial(ctx, "tcp", netip.AddrPortFrom(addr.Addr(), port), greetingWait)
	if err != nil {
		return
	}
	defer further.Close()
	defer deadline(ctx, further)()
	if exports, err := rpcAsk(further, rpcMount, version, rpcExports); err == nil {
		readExports(exports, f)
	}
}

// readPrograms reads the list of programs, and gives where the one that mounts is found by TCP, in its newest version up to 3.
func readPrograms(list xdr, f *found) (port uint16, version uint32) {
	for count := 0; list.word() == 1 && count < 2*maxTargets*maxTargets; count++ {
		program, v, protocol, at := list.word(), list.word(), list.word(), list.word()
		transport := map[uint32]string{6: "tcp", 17: "udp"}[protocol]
		if transport == "" || at == 0 || at > 65535 {
			continue
		}
		f.addOnce(evidence.SourceRPC, keyRPCProgram, fmt.Appendf(nil, "%s %d %s/%d", rpcName(program), v, transport, at))
		if program == rpcMount && transport == "tcp" && v <= 3 && v > version {
			port, version = uint16(at), v
		}
	}
	return port, version
}

// readExports reads what is given out, and to whom (RFC 1813, 5.2.5).
func readExports(list xdr, f *found) {
	for count := 0; list.word() == 1 && count < maxExports; count++ {
		path := evidence.Clean([]byte(list.text()))
		var allowed []string
		for list.word() == 1 {
			if who := evidence.Clean([]byte(list.text())); who != "" && len(allowed) < maxAllowed {
				allowed = append(allowed, who)
			}
		}
		if path == "" {
			return
		}
		who := strings.Join(allowed, ", ")
		if who == "" || who == "*" {
			who = "everybody"
		}
		f.addOnce(evidence.SourceRPC, keyNFSExport, []byte(path+" to "+who))
	}
}
