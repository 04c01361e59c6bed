package main

import (
	"context"
	"encoding/binary"
	"fmt"
	"net"
	"net/netip"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/netrange"
	"airdrift/core/probe"
	"airdrift/core/sweep"
)

const (
	controllers = 1000
	objectsEach = 120
)

// plant is a segment of controllers with many objects each.
type plant struct {
	crowd
	questions atomic.Int64 // that came in
}

// DialContext gives a conversation with a controller, or what the crowd gives.
func (p *plant) DialContext(ctx context.Context, network string, addr netip.AddrPort) (net.Conn, error) {
	if network != "udp" || addr.Port() != 47808 {
		return p.crowd.DialContext(ctx, network, addr)
	}
	a := addr.Addr().As4()
	if n := int(a[2])<<8 | int(a[3]); n < 10 || n >= 10+controllers {
		return nil, syscall.ECONNREFUSED
	}
	ours, theirs := net.Pipe()
	go p.answer(theirs, binary.BigEndian.Uint32(a[:])&0xffff)
	return ours, nil
}

// answer is a controller that gives its number and the list of its objects, and rejects all else (ASHRAE 135, 15.5, 20.1).
func (p *plant) answer(conn net.Conn, instance uint32) {
	defer conn.Close()
	buf := make([]byte, 1500)
	for {
		n, err := conn.Read(buf)
		if err != nil {
			return
		}
		if n < 12 || buf[6]>>4 != 0 {
			continue // no question to one alone
		}
		p.questions.Add(1)
		question := buf[6:n]
		answer := []byte{0x60, question[2], 9}
		if question[3] == 12 {
			answer = append([]byte{0x30, question[2], 12}, question[4:]...)
			answer = append(append(append(answer, 0x3e), listOf(question, instance)...), 0x3f)
		}
		head := []byte{0x81, 0x0a, byte((len(answer) + 6) >> 8), byte(len(answer) + 6), 1, 0}
		if _, err := conn.Write(append(head, answer...)); err != nil {
			return
		}
	}
}

// listOf gives the value that is asked for: the device's own number, how many objects it has, or all of their names.
func listOf(question []byte, instance uint32) []byte {
	own := binary.BigEndian.AppendUint32([]byte{0xc4}, 8<<22|instance)
	switch {
	case question[10] != 76:
		return own
	case len(question) > 11:
		return []byte{0x21, objectsEach}
	}
	for i := range uint32(objectsEach - 1) {
		own = binary.BigEndian.AppendUint32(append(own, 0xc4), (i%6)<<22|i)
	}
	return own
}

// readingFigures are measured together, on the reading of a building of 1,000 controllers and 120,000 objects.
type readingFigures struct {
	overFloor float64
	memory    float64 // MiB
}

func readPlant() (readingFigures, error) {
	p := &plant{crowd: crowd{prefix: netip.MustParsePrefix("10.1.0.2/22"), every: 1}}
	pace := sweep.Pace{Name: "own", Rate: 1000, Devices: 64, PerDevice: 1, PerNetwork: 256, Rounds: 1}
	fence := []netip.Prefix{p.prefix.Masked()}
	order := sweep.Order{Ranges: netrange.FromPrefixes(fence...), Fence: fence, Pace: pace, Seed: 1, Read: true}
	for _, protocol := range probe.Protocols() {
		if protocol.Name != "bacnet" {
			order.Off = append(order.Off, protocol.Name)
		}
	}
	var f readingFigures
	var began time.Time
	var before int64
	points := map[string]bool{}
	runtime.GC()
	_, err := sweep.Run(context.Background(), p, order, func(e sweep.Event) {
		switch e := e.(type) {
		case sweep.StageStarted:
			if e.Stage == sweep.Reading {
				began, before = time.Now(), p.questions.Load()
			}
		case sweep.Sighted:
			if slices.Contains(evidence.Values(e.Sighting.Items, evidence.KeyBACnetPoints), fmt.Sprint(objectsEach-1)) {
				points[e.Sighting.Addr.String()] = true
			}
		case sweep.Progress:
			if !began.IsZero() {
				f.memory = max(f.memory, float64(heap())/(1<<20))
			}
		}
	})
	took := time.Since(began)
	if err == nil && len(points) != controllers {
		err = fmt.Errorf("%d of %d controllers were counted", len(points), controllers)
	}
	f.overFloor = took.Seconds() / (float64(p.questions.Load()-before) / pace.Rate)
	return f, err
}

var readingOnce = sync.OnceValues(readPlant)

// ofReading picks a figure of the one reading.
func ofReading(pick func(readingFigures) float64) func() (float64, error) {
	return func() (float64, error) {
		f, err := readingOnce()
		return pick(f), err
	}
}
