package probe

import (
	"context"
	"errors"
	"net/netip"
	"syscall"
	"time"

	"airdrift/core/evidence"
)

// datagramTries is how often a question by datagram is sent to who keeps silent.
const datagramTries = 2

// maxDatagram is the largest datagram read, in bytes: the most that UDP carries.
const maxDatagram = 65535

// maxAnswers is how many datagrams are looked at for one question, so that a flood does not keep us.
const maxAnswers = 64

var errSilent = errors.New("nothing that fits the question came back in time")

// verdict is what a datagram was worth.
type verdict int

const (
	ignore verdict = iota // it does not belong to the question
	more                  // it is an answer, and others may follow
	enough                // it is the answer
)

// lull is how long further answers to one question are waited for after the last.
const lull = 300 * time.Millisecond

// exchange sends a question and shows each datagram that comes back to take, until it has enough. A question that is not
// answered is sent again with twice the wait. The error says why there was no answer; ECONNREFUSED means that nothing
// listens there.
func exchange(ctx context.Context, d Dialer, addr netip.AddrPort, question []byte, wait time.Duration, take func(answer []byte) verdict) error {
	dialCtx, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	conn, err := d.DialContext(dialCtx, "udp", addr)
	if err != nil {
		return err
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	buf := make([]byte, maxDatagram)
	answered := false
	for range datagramTries {
		if _, err := conn.Write(question); err != nil {
			return errors.Join(err, ctx.Err())
		}
		_ = conn.SetReadDeadline(time.Now().Add(wait))
		for range maxAnswers {
			n, err := conn.Read(buf)
			if refusesDatagrams(err) || ctx.Err() != nil {
				return errors.Join(err, ctx.Err())
			}
			if err != nil {
				break
			}
			switch take(buf[:n]) {
			case enough:
				return nil
			case more:
				answered = true
				_ = conn.SetReadDeadline(time.Now().Add(lull))
			}
		}
		if answered {
			return nil
		}
		wait *= 2
	}
	return errSilent
}

// refusesDatagrams reports whether a device has said that nothing listens at the port.
func refusesDatagrams(err error) bool { return errors.Is(err, syscall.ECONNREFUSED) }

// Question is one thing that every device is asked by datagram.
type Question struct {
	Name string
	Port uint16
	// Told is a fact that an answer to all of the segment has told already, where the question need not be put again.
	Told string
	// Ask gives what was learned; answered is false where nothing that fits came back.
	Ask func(ctx context.Context, d Dialer, addr netip.Addr, wait time.Duration) (items []evidence.Item, answered bool)
}

// Questions are asked of every device, in this order: those that cost it least come first.
var Questions = []Question{
	{"ntp", 123, "", NTP},
	{"netbios", 137, "", NetBIOS},
	{"llmnr", 5355, "", LLMNR},
	{"mdns", mdnsPort, "", MDNS},
	{"ws-discovery", wsdPort, evidence.KeyWSDID, WSDiscovery},
	{"ssdp", ssdpPort, evidence.KeyUPnPTarget, SSDP},
	{"sip", sipPort, "", SIP},
}

// byDatagram collects the evidence of one question by datagram.
func byDatagram(d Dialer, addr netip.Addr, port uint16) (*found, netip.AddrPort) {
	return &found{port: evidence.UDP(port), dialer: d, zone: addr.Zone()}, netip.AddrPortFrom(addr, port)
}
