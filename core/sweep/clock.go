package sweep

import (
	"errors"
	"math/rand/v2"
	"net"
	"slices"
	"sync"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/probe"
)

// maxTimed is how many answers in one protocol are kept of a device for its times; of more, so many at random.
const maxTimed = 512

// clock keeps how long a device takes over its answers in one protocol: from the question's leaving to the beginning of the answer. What is
// waited for before a question leaves is no time of the device's.
type clock struct {
	mu      sync.Mutex // guards all below
	times   []time.Duration
	worst   time.Duration // of all answers, whether they are kept or not
	answers int
	lost    int
}

func (c *clock) answered(took time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.answers++
	c.worst = max(c.worst, took)
	if len(c.times) < maxTimed {
		c.times = append(c.times, took)
	} else if at := rand.IntN(c.answers); at < maxTimed { // each of them is as likely to be kept
		c.times[at] = took
	}
}

func (c *clock) missed() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.lost++
}

// of gives the times; ok is false where nothing was ever answered, which says nothing of how long it takes.
func (c *clock) of(protocol string) (times evidence.Times, ok bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	times = evidence.TimesOf(protocol, slices.Clone(c.times), c.answers, c.lost)
	times.Worst = max(times.Worst, c.worst)
	return times, c.answers > 0
}

// question is what was asked over one connection and not answered yet.
type question struct {
	clock *clock

	mu      sync.Mutex // guards both
	left    time.Time  // zero where nothing waits for an answer
	overdue int        // questions that were given up: what comes next may be a late answer to one of them
}

// sent takes in that a question has left. What is sent before anything has come back belongs to it.
func (q *question) sent(err error) {
	if err != nil {
		return
	}
	q.mu.Lock()
	defer q.mu.Unlock()
	q.left = time.Now()
}

// came takes in that something came back, or that it was waited for in vain.
func (q *question) came(err error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	waits := !q.left.IsZero() // else it speaks of itself, or goes on
	switch {
	case err == nil && q.overdue > 0:
		q.overdue--
	case err == nil && waits:
		q.clock.answered(time.Since(q.left))
	case isTimeout(err) && waits:
		q.overdue++
		q.clock.missed()
	}
	q.left = time.Time{}
}

func isTimeout(err error) bool {
	var timeout net.Error
	return errors.As(err, &timeout) && timeout.Timeout()
}

// timedConn is a connection whose answers are timed.
type timedConn struct {
	net.Conn
	question
	drawnOut
}

func newTimedConn(conn net.Conn, c *clock, s *stalls) *timedConn {
	return &timedConn{Conn: conn, question: question{clock: c}, drawnOut: drawnOut{stalls: s}}
}

func (c *timedConn) SetDeadline(t time.Time) error {
	c.until(t)
	return c.Conn.SetDeadline(t)
}

func (c *timedConn) SetReadDeadline(t time.Time) error {
	c.until(t)
	return c.Conn.SetReadDeadline(t)
}

func (c *timedConn) Write(b []byte) (int, error) {
	n, err := c.Conn.Write(b)
	c.sent(err)
	return n, err
}

func (c *timedConn) Read(b []byte) (int, error) {
	n, err := c.Conn.Read(b)
	for n == 0 && err != nil && c.goesOn(err, c.Conn.SetReadDeadline) {
		n, err = c.Conn.Read(b)
	}
	if n > 0 {
		c.came(nil)
	} else {
		c.came(err)
	}
	return n, err
}

// Waited gives how long was waited for turns so far, which is no time of the device's.
func (c *timedConn) Waited() time.Duration {
	if paced, ok := c.Conn.(interface{ Waited() time.Duration }); ok {
		return paced.Waited()
	}
	return 0
}

// timedPackets are datagrams whose answers are timed.
type timedPackets struct {
	net.PacketConn
	question
	drawnOut
}

func (c *timedPackets) SetDeadline(t time.Time) error {
	c.until(t)
	return c.PacketConn.SetDeadline(t)
}

func (c *timedPackets) SetReadDeadline(t time.Time) error {
	c.until(t)
	return c.PacketConn.SetReadDeadline(t)
}

func (c *timedPackets) WriteTo(b []byte, to net.Addr) (int, error) {
	n, err := c.PacketConn.WriteTo(b, to)
	c.sent(err)
	return n, err
}

func (c *timedPackets) ReadFrom(b []byte) (int, net.Addr, error) {
	n, from, err := c.PacketConn.ReadFrom(b)
	for err != nil && c.goesOn(err, c.PacketConn.SetReadDeadline) {
		n, from, err = c.PacketConn.ReadFrom(b)
	}
	c.came(err)
	return n, from, err
}

// timed has a connection timed for a protocol of a device.
func (t *target) timed(p *probe.Protocol, conn net.Conn, s *stalls) net.Conn {
	return newTimedConn(conn, t.clock(p), s)
}

// clock gives what keeps the times of a protocol.
func (t *target) clock(p *probe.Protocol) *clock {
	t.mu.Lock()
	defer t.mu.Unlock()
	c := t.clocks[p]
	if c == nil {
		if t.clocks == nil {
			t.clocks = map[*probe.Protocol]*clock{}
		}
		c = &clock{}
		t.clocks[p] = c
	}
	return c
}

// times gives how long the device took over its answers, as facts, in the order of the protocols.
func (t *target) times() []evidence.Item {
	t.mu.Lock()
	defer t.mu.Unlock()
	var items []evidence.Item
	for p, c := range t.clocks {
		if times, ok := c.of(p.Name); ok && !p.ByOthers {
			items = append(items, sweepItem(evidence.KeyTimes, times.String()))
		}
	}
	slices.SortFunc(items, func(a, b evidence.Item) int { return slices.Compare([]byte(a.Value), []byte(b.Value)) })
	return items
}
