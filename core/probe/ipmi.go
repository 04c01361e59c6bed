package probe

import (
	"context"
	"encoding/binary"
	"fmt"
	"strings"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keyIPMIVersion = "ipmi.version"
	keyIPMIAuth    = "ipmi.sign-in"
	keyIPMIMaker   = "ipmi.enterprise"
)

const ipmiPort = 623

var _ = register(Protocol{
	Name: "ipmi", Source: evidence.SourceIPMI, Cost: Light,
	Port: evidence.UDP(ipmiPort), Ask: askIPMI,
	Facts: []evidence.Fact{
		{Key: keyIPMIVersion, Says: "version of the management of the machine", Standard: "IPMI 2.0, 22.13", Example: "2.0"},
		{Key: keyIPMIAuth, Says: "how one signs in", Standard: "IPMI 2.0, 22.13", Example: "MD5, password, nameless"},
		{Key: keyIPMIMaker, Says: "enterprise number of who makes it differ from the standard", Standard: "ASF 2.0, 3.2.4.3", Example: "4542"},
	},
})

const (
	rmcpHeader = 4
	rmcpASF    = 6
	rmcpIPMI   = 7
	asfPing    = 0x80
	asfPong    = 0x40
	asfNumber  = 4542 // enterprise number of those that keep to the standard
)

// ipmiSignIns are the ways to sign in, by their bits (IPMI 2.0, 22.13).
var ipmiSignIns = []string{"none", "MD2", "MD5", "", "password", "maker's own"}

// askIPMI asks whether a machine is managed (ASF 2.0, 3.2.4.2), and then how, which opens no session (IPMI 2.0, 22.13).
func askIPMI(ctx context.Context, q Query) ([]evidence.Item, bool) {
	f, to := q.byDatagram(ipmiPort)
	ping := []byte{rmcpASF, 0, 0xff, rmcpASF, 0, 0, 0x11, 0xbe, asfPing, 1, 0, 0}
	managed := false
	err := exchange(ctx, q.Dialer, to, ping, q.Wait, func(answer []byte) verdict {
		ok := false
		if managed, ok = readPong(answer, f); !ok {
			return ignore
		}
		return enough
	})
	if err != nil || !managed {
		return f.items, err == nil
	}
	// To the controller (0x20), of the application (0x06 in the upper bits), without a session; which channel (0x0e: this one, 0x80: of version 2 too), as whom (4: administrator).
	body := []byte{0x20, 0x18, 0xc8, 0x81, 0x04, 0x38, 0x8e, 0x04, 0}
	for _, b := range body[3:8] {
		body[8] -= b
	}
	question := append([]byte{rmcpASF, 0, 0xff, rmcpIPMI, 0, 0, 0, 0, 0, 0, 0, 0, 0, byte(len(body))}, body...)
	_ = exchange(ctx, q.Dialer, to, question, q.Wait, func(answer []byte) verdict {
		if !readIPMI(answer, f) {
			return ignore
		}
		return enough
	})
	return f.items, true
}

// readPong reads the answer to a ping: managed says whether IPMI is spoken.
func readPong(answer []byte, f *found) (managed, ok bool) {
	if len(answer) < rmcpHeader+8+16 || answer[0] != rmcpASF || answer[3]&0x1f != rmcpASF || answer[8] != asfPong || binary.BigEndian.Uint32(answer[4:]) != asfNumber {
		return false, false
	}
	if maker := binary.BigEndian.Uint32(answer[12:]); maker != asfNumber && maker != 0 {
		f.add(evidence.SourceIPMI, keyIPMIMaker, fmt.Appendf(nil, "%d", maker))
	}
	return answer[20]&0x80 != 0, true
}

// readIPMI reads how one may sign in.
func readIPMI(answer []byte, f *found) bool {
	const head = rmcpHeader + 10 // without a session
	if len(answer) < head+6+9 || answer[3]&0x1f != rmcpIPMI || answer[head+1] != 0x1c || answer[head+5] != 0x38 || answer[head+6] != 0 {
		return false
	}
	data := answer[head+7:]
	version := "1.5"
	if data[1]&0x80 != 0 && data[3]&2 != 0 {
		version = "2.0"
	}
	f.add(evidence.SourceIPMI, keyIPMIVersion, []byte(version))
	var ways []string
	for bit, way := range ipmiSignIns {
		if data[1]&(1<<bit) != 0 && way != "" {
			ways = append(ways, way)
		}
	}
	if data[2]&1 != 0 {
		ways = append(ways, "nameless")
	}
	f.add(evidence.SourceIPMI, keyIPMIAuth, []byte(strings.Join(ways, ", ")))
	return true
}
