package probe

import (
	"context"
	"encoding/binary"
	"fmt"
	"strconv"
	"time"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keyNTPVersion   = "ntp.version"
	keyNTPStratum   = "ntp.stratum"
	keyNTPReference = "ntp.reference"
)

var _ = register(Protocol{
	Name: "ntp", Source: evidence.SourceNTP, Cost: Light,
	Port: evidence.UDP(ntpPort), Ask: askNTP,
	Facts: []evidence.Fact{
		{Key: keyNTPVersion, Says: "version of the protocol", Standard: "RFC 5905, 7.3", Example: "4"},
		{Key: keyNTPStratum, Says: "how far it is from a clock", Standard: "RFC 5905, 7.3", Example: "1"},
		{Key: keyNTPReference, Says: "the clock, or the server, that it goes by", Standard: "RFC 5905, 7.3", Example: "GPS"},
	},
})

const ntpPort = 123

// ntpLength is the length of a message without extensions (RFC 5905, 7.3), in bytes.
const ntpLength = 48

// askNTP asks for the time as a client does (RFC 5905), to learn which device gives it.
func askNTP(ctx context.Context, q Query) ([]evidence.Item, bool) {
	f, to := q.byDatagram(ntpPort)
	question := make([]byte, ntpLength)
	question[0] = 4<<3 | 3 // version 4, client
	binary.BigEndian.PutUint64(question[40:], uint64(time.Now().UnixNano()))
	err := exchange(ctx, q.Dialer, to, question, q.Wait, func(answer []byte) verdict { return readNTP(answer, question[40:], f) })
	return f.items, err == nil
}

// readNTP reads the answer to a question that carried the given time of sending.
func readNTP(answer, sent []byte, f *found) verdict {
	if len(answer) < ntpLength || answer[0]&7 != 4 || string(answer[24:32]) != string(sent) {
		return ignore
	}
	stratum := answer[1]
	f.add(evidence.SourceNTP, keyNTPVersion, []byte(strconv.Itoa(int(answer[0]>>3&7))))
	f.add(evidence.SourceNTP, keyNTPStratum, []byte(strconv.Itoa(int(stratum))))
	reference := answer[12:16]
	switch {
	case stratum <= 1: // the name of a clock, or why there is none (RFC 5905, 7.3 and 7.4)
		for len(reference) > 0 && reference[len(reference)-1] == 0 {
			reference = reference[:len(reference)-1]
		}
		f.add(evidence.SourceNTP, keyNTPReference, reference)
	default:
		f.add(evidence.SourceNTP, keyNTPReference, fmt.Appendf(nil, "%d.%d.%d.%d", reference[0], reference[1], reference[2], reference[3]))
	}
	return enough
}
