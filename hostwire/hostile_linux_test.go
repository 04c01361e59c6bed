package hostwire

import (
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/miekg/dns"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/probe"
	"airdrift/core/sweep"
	"airdrift/core/wire"
	"airdrift/simsite/nstest"
)

// attacker has a packet socket on the segment, and sends what it likes for as long as the test runs.
type attacker struct {
	machine
	sent atomic.Int64
}

// bursts are so many frames, one burst every so often: ten thousand a second.
const bursts, burstEvery = 200, 20 * time.Millisecond

// every sends frames in bursts.
func (a *attacker) every(make func(i int) []byte) {
	a.within(func() error {
		conn, err := (&Wire{name: "eth0"}).Frames(a.field.t.Context(), wire.EtherTypeARP)
		if err != nil {
			return err
		}
		ctx := a.field.t.Context()
		go func() {
			defer conn.Close()
			ticker := time.NewTicker(burstEvery)
			defer ticker.Stop()
			for i := 0; ctx.Err() == nil; i++ {
				if i%bursts == 0 {
					<-ticker.C
				}
				if conn.WriteFrame(make(i)) == nil {
					a.sent.Add(1)
				}
			}
		}()
		return nil
	})
}

// answersAll answers for every address that is asked for, but for those spared.
func (a *attacker) answersAll(mac hwaddr.MAC, spared func(netip.Addr) bool) {
	a.within(func() error {
		conn, err := (&Wire{name: "eth0"}).Frames(a.field.t.Context(), wire.EtherTypeARP)
		if err != nil {
			return err
		}
		a.field.t.Cleanup(func() { conn.Close() })
		go func() {
			buf := make([]byte, 2048)
			for {
				frame, err := conn.ReadFrame(buf)
				if err != nil {
					return
				}
				b := frame.Bytes
				if len(b) < 42 || b[21] != 1 || spared(netip.AddrFrom4([4]byte(b[38:42]))) {
					continue
				}
				reply := probe.ARPRequest(mac, netip.AddrFrom4([4]byte(b[38:42])), netip.AddrFrom4([4]byte(b[28:32])))
				copy(reply[0:6], b[6:12])
				reply[21] = 2
				copy(reply[32:38], b[22:28])
				if conn.WriteFrame(reply) == nil {
					a.sent.Add(1)
				}
			}
		}()
		return nil
	})
}

// changingRecord is a response of multicast DNS that says something new each time.
func changingRecord(i int) []byte {
	message := &dns.Msg{MsgHdr: dns.MsgHdr{Response: true}, Answer: []dns.RR{
		&dns.TXT{Hdr: dns.RR_Header{Name: "x._http._tcp.local.", Rrtype: dns.TypeTXT, Class: dns.ClassINET}, Txt: []string{fmt.Sprintf("n=%d", i), strings.Repeat("y", 200)}},
	}}
	raw, err := message.Pack()
	if err != nil {
		panic(err)
	}
	body := binary.BigEndian.AppendUint16([]byte{0x14, 0xe9, 0x14, 0xe9}, uint16(8+len(raw)))
	body = append(append(body, 0, 0), raw...)
	frame := []byte{1, 0, 0x5e, 0, 0, 0xfb, 2, 0, 0, 0, 0, 0x40, 8, 0, 0x45, 0}
	frame = binary.BigEndian.AppendUint16(frame, uint16(20+len(body)))
	frame = append(frame, 0, 1, 0, 0, 255, 17, 0, 0, 10, 78, 0, 40, 224, 0, 0, 251)
	return append(frame, body...)
}

// On a segment that is flooded with forged frames and changing records, and where one MAC answers for two thousand addresses, a sweep
// stays within bounds and finds who is really there.
func TestFieldHostileSegment(t *testing.T) {
	if !nstest.Inside(t) {
		return
	}
	f := newField(t, "10.78.0.1/21")
	real := map[string]string{}
	for i := range 3 {
		a, mac := fmt.Sprintf("10.78.%d.%d", 2*i, 50+i), fmt.Sprintf("02:00:00:00:00:5%d", i)
		f.host(mac, a+"/21").greets(":21", "220 real\r\n")
		real[a] = mac
	}
	flood := &attacker{machine: f.host("02:00:00:00:00:40")}
	random := rand.New(rand.NewPCG(1, 2))
	flood.every(func(i int) []byte {
		if i%8 == 0 {
			return changingRecord(i)
		}
		// In every name but the auditor's: who answers him would be misled by that, and no sweep can help it.
		from := netip.AddrFrom4([4]byte{10, 78, byte(random.Uint32()) & 7, byte(random.Uint32()) | 2})
		return probe.ARPRequest(hwaddr.MAC{0x48, 0x9b, byte(random.Uint32()), byte(random.Uint32()), byte(random.Uint32()), byte(random.Uint32())}, from, netip.AddrFrom4([4]byte{10, 78, 0, 99}))
	})
	proxy := &attacker{machine: f.host("02:00:00:00:00:41")}
	proxy.answersAll(hwaddr.MustParse("02:00:00:00:00:41"), func(a netip.Addr) bool { return real[a.String()] != "" || a == netip.MustParseAddr("10.78.0.1") })
	var before, now runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	most, events := uint64(0), 0
	got := f.sweeps("eth0", "10.78.0.0/21", func(o *sweep.Order) {
		o.Fence, o.Ports = []netip.Prefix{netip.MustParsePrefix("10.78.0.0/21")}, []uint16{21}
	}, func(sweep.Event) {
		if events++; events%200 == 0 {
			runtime.ReadMemStats(&now)
			most = max(most, now.HeapAlloc)
		}
	})
	for a, mac := range real {
		if s := got.at(a, mac); evidence.First(s.Items, "ftp.greeting") != "220 real" || !s.Whole {
			t.Errorf("%s, a real machine, is seen as %+v", a, s)
		}
	}
	if grown := most - min(most, before.HeapAlloc); grown > 128<<20 {
		t.Errorf("the sweep's memory grew by %d MiB", grown>>20)
	}
	if !got.warned("is being flooded") {
		t.Errorf("warnings %q", got.warnings)
	}
	t.Logf("%d frames were sent against the sweep of %s; %d sightings, memory up by %d MiB", flood.sent.Load()+proxy.sent.Load(), got.summary.Took, len(got.last), (most-min(most, before.HeapAlloc))>>20)
}
