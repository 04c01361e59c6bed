package probe

import (
	"context"
	"net"
	"net/netip"
	"time"

	"airdrift/core/evidence"
)

const keyDaytime = "daytime.says"

// Old controllers, clocks and the small services of Unix tell the time of day in words to whoever connects.
var _ = register(Protocol{
	Name: "daytime", Source: "daytime", Cost: Light,
	Ports: []uint16{13}, Talk: talkDaytime,
	Facts: []evidence.Fact{
		{Key: keyDaytime, Says: "the time of day in its own words, of which the form differs from maker to maker", Standard: "RFC 867", Example: "Thu Jan  1 12:00:00 2026", Passing: true},
	},
})

// talkDaytime hears the one line that the service says before it hangs up (RFC 867).
func talkDaytime(_ context.Context, conn net.Conn, _ netip.AddrPort, f *found) {
	_ = conn.SetReadDeadline(time.Now().Add(greetingWait))
	f.add("daytime", keyDaytime, firstLine(readGreeting(conn, plain)))
}
