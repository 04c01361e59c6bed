package hostwire

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"os"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/net/bpf"
	"golang.org/x/sys/unix"

	"airdrift/core/wire"
)

// Frames opens a packet socket (packet(7)), which needs CAP_NET_RAW.
func (w *Wire) Frames(_ context.Context, etherType uint16) (wire.FrameConn, error) {
	device, err := net.InterfaceByName(w.name)
	if err != nil {
		return nil, fmt.Errorf("interface %s: %w", w.name, gone(err))
	}
	// Bound to nothing at first, so that nothing comes in before the filter stands.
	fd, err := unix.Socket(unix.AF_PACKET, unix.SOCK_RAW|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK, 0)
	if err != nil {
		return nil, noRights(os.NewSyscallError("socket", err))
	}
	if err := prepare(fd, device.Index, etherType); err != nil {
		return nil, errors.Join(fmt.Errorf("packet socket on %s: %w", w.name, err), unix.Close(fd))
	}
	file := os.NewFile(uintptr(fd), "packet:"+w.name)
	raw, err := file.SyscallConn()
	if err != nil {
		return nil, errors.Join(err, file.Close())
	}
	return &frameConn{file: file, raw: raw, device: device.Index, etherType: etherType}, nil
}

func prepare(fd, device int, etherType uint16) error {
	if program, filtered := filters[etherType]; filtered {
		raw, err := bpf.Assemble(program)
		if err != nil {
			return err
		}
		instructions := make([]unix.SockFilter, len(raw))
		for i, r := range raw {
			instructions[i] = unix.SockFilter{Code: r.Op, Jt: r.Jt, Jf: r.Jf, K: r.K}
		}
		program := unix.SockFprog{Len: uint16(len(instructions)), Filter: &instructions[0]}
		if err := unix.SetsockoptSockFprog(fd, unix.SOL_SOCKET, unix.SO_ATTACH_FILTER, &program); err != nil {
			return os.NewSyscallError("filter", err)
		}
	}
	for _, option := range []int{unix.SO_TIMESTAMPNS} {
		if err := unix.SetsockoptInt(fd, unix.SOL_SOCKET, option, 1); err != nil {
			return os.NewSyscallError("time stamps", err)
		}
	}
	if err := unix.SetsockoptInt(fd, unix.SOL_PACKET, unix.PACKET_AUXDATA, 1); err != nil {
		return os.NewSyscallError("auxiliary data", err)
	}
	if etherType != wire.EtherTypeARP {
		// The interface takes in what is sent to any group, for as long as the socket is open.
		request := unix.PacketMreq{Ifindex: int32(device), Type: unix.PACKET_MR_ALLMULTI}
		if err := unix.SetsockoptPacketMreq(fd, unix.SOL_PACKET, unix.PACKET_ADD_MEMBERSHIP, &request); err != nil {
			return os.NewSyscallError("groups", err)
		}
	}
	return os.NewSyscallError("bind", unix.Bind(fd, &unix.SockaddrLinklayer{Protocol: networkOrder(etherType), Ifindex: device}))
}

func networkOrder(v uint16) uint16 {
	return binary.NativeEndian.Uint16(binary.BigEndian.AppendUint16(nil, v))
}

// filters have the system let through what is read, so that a flood of all else costs nothing (bpf(4)). Of IPv4 that is datagrams,
// ICMP, and the acceptance of TCP connections; of IPv6 datagrams and ICMP.
var filters = map[uint16][]bpf.Instruction{
	wire.EtherTypeIPv4: {
		bpf.LoadAbsolute{Off: 23, Size: 1}, // protocol
		bpf.JumpIf{Cond: bpf.JumpEqual, Val: unix.IPPROTO_UDP, SkipTrue: 6},
		bpf.JumpIf{Cond: bpf.JumpEqual, Val: unix.IPPROTO_ICMP, SkipTrue: 5},
		bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: unix.IPPROTO_TCP, SkipTrue: 5},
		bpf.LoadMemShift{Off: 14},               // length of the header
		bpf.LoadIndirect{Off: 14 + 13, Size: 1}, // flags of TCP
		bpf.ALUOpConstant{Op: bpf.ALUOpAnd, Val: 0x12},
		bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: 0x12, SkipTrue: 1},
		bpf.RetConstant{Val: 1 << 18},
		bpf.RetConstant{Val: 0},
	},
	wire.EtherTypeIPv6: {
		bpf.LoadAbsolute{Off: 20, Size: 1}, // next header
		bpf.JumpIf{Cond: bpf.JumpEqual, Val: unix.IPPROTO_UDP, SkipTrue: 1},
		bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: unix.IPPROTO_ICMPV6, SkipTrue: 1},
		bpf.RetConstant{Val: 1 << 18},
		bpf.RetConstant{Val: 0},
	},
}

// frameConn is a packet socket.
type frameConn struct {
	file      *os.File
	raw       syscall.RawConn
	device    int
	etherType uint16
}

// ReadFrame gives one frame with the time at which the system took it in, and its VLAN, which the system has cut out.
func (c *frameConn) ReadFrame(buf []byte) (wire.Frame, error) {
	var n, told int
	var failure error
	control := make([]byte, 128)
	err := c.raw.Read(func(fd uintptr) bool {
		n, told, _, _, failure = unix.Recvmsg(int(fd), buf, control, unix.MSG_TRUNC)
		return !errors.Is(failure, unix.EAGAIN)
	})
	if err == nil && failure != nil {
		err = os.NewSyscallError("recvmsg", failure)
	}
	if err != nil {
		return wire.Frame{}, err
	}
	frame := wire.Frame{Bytes: buf[:min(n, len(buf))], At: time.Now()}
	messages, err := unix.ParseSocketControlMessage(control[:told])
	if err != nil {
		return frame, nil
	}
	for _, m := range messages {
		switch {
		case m.Header.Level == unix.SOL_SOCKET && m.Header.Type == unix.SCM_TIMESTAMPNS && len(m.Data) >= int(unsafe.Sizeof(unix.Timespec{})):
			stamp := *(*unix.Timespec)(unsafe.Pointer(&m.Data[0]))
			frame.At = time.Unix(stamp.Unix())
		case m.Header.Level == unix.SOL_PACKET && m.Header.Type == unix.PACKET_AUXDATA && len(m.Data) >= int(unsafe.Sizeof(unix.TpacketAuxdata{})):
			aux := *(*unix.TpacketAuxdata)(unsafe.Pointer(&m.Data[0]))
			if aux.Status&unix.TP_STATUS_VLAN_VALID != 0 {
				frame.VLAN = aux.Vlan_tci & 0xfff
			}
		}
	}
	return frame, nil
}

func (c *frameConn) WriteFrame(frame []byte) error {
	to := &unix.SockaddrLinklayer{Protocol: networkOrder(c.etherType), Ifindex: c.device, Halen: 6}
	copy(to.Addr[:], frame[:6])
	var failure error
	err := c.raw.Write(func(fd uintptr) bool {
		failure = unix.Sendto(int(fd), frame, 0, to)
		return !errors.Is(failure, unix.EAGAIN)
	})
	return errors.Join(err, os.NewSyscallError("sendto", failure))
}

func (c *frameConn) SetReadDeadline(t time.Time) error { return c.file.SetReadDeadline(t) }
func (c *frameConn) Close() error                      { return c.file.Close() }
