package simsite

import (
	"container/heap"
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"time"

	"airdrift/core/hwaddr"
)

const (
	ethernetHeader = 14
	// maxWaiting bounds the frames under way on one segment; a real switch drops what its buffers cannot hold too.
	maxWaiting = 1 << 16
)

// Conditions are what a segment does to each frame on its way.
type Conditions struct {
	Latency time.Duration `yaml:"latency"` // one way
	Jitter  time.Duration `yaml:"jitter"`  // at most this much is added, evenly spread
	Loss    float64       `yaml:"loss"`    // share of frames lost, 0 to 1
}

// segment is an Ethernet switch in user space: it learns which MAC is behind which port, and floods what it does not
// know. One goroutine delivers all frames, in the order they are due, so that a device's stack never runs inside
// another's call.
type segment struct {
	conditions Conditions
	wake       chan struct{}
	done       chan struct{}
	stopped    chan struct{}

	mu      sync.Mutex // guards all below
	ports   []*port
	learned map[hwaddr.MAC]*port
	waiting frameHeap
	order   uint64
	random  *rand.Rand
	watch   func(from *port, frame []byte) // is shown each frame that is sent; may be nil
}

// port is one socket of the switch. deliver takes each frame that reaches it and may keep it.
type port struct {
	segment    *segment
	conditions Conditions // of the cable to the device
	deliver    func(frame []byte)
	// accepts says whether the device behind the port takes a frame in; nil takes all.
	accepts func(frame []byte) bool
	gone    atomic.Bool // set once it is detached
}

func newSegment(conditions Conditions, seed uint64) *segment {
	s := &segment{
		conditions: conditions,
		wake:       make(chan struct{}, 1),
		done:       make(chan struct{}),
		stopped:    make(chan struct{}),
		learned:    map[hwaddr.MAC]*port{},
		random:     rand.New(rand.NewPCG(seed, seed^0x5eed)),
	}
	go s.run()
	return s
}

// attach adds a port.
func (s *segment) attach(deliver func([]byte), accepts func([]byte) bool, conditions Conditions) *port {
	p := &port{segment: s, conditions: conditions, deliver: deliver, accepts: accepts}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.ports = append(s.ports, p)
	return p
}

// detach takes a port out; frames under way to it are dropped.
func (p *port) detach() {
	s := p.segment
	s.mu.Lock()
	defer s.mu.Unlock()
	for i, q := range s.ports {
		if q == p {
			s.ports = append(s.ports[:i], s.ports[i+1:]...)
			break
		}
	}
	for mac, q := range s.learned {
		if q == p {
			delete(s.learned, mac)
		}
	}
	p.gone.Store(true)
}

// receive hands a frame to the device behind the port, unless it was taken out or turns the frame down.
func (p *port) receive(frame []byte) {
	if p.gone.Load() || p.accepts != nil && !p.accepts(frame) {
		return
	}
	p.deliver(frame)
}

// send puts a frame on the segment as from this port. The segment owns the frame from here on.
func (p *port) send(frame []byte) {
	if len(frame) < ethernetHeader {
		return
	}
	s := p.segment
	s.mu.Lock()
	if s.watch != nil {
		s.watch(p, frame)
	}
	s.learned[hwaddr.MAC(frame[6:12])] = p
	for _, to := range s.receiversLocked(p, hwaddr.MAC(frame[0:6])) {
		s.scheduleLocked(p, to, frame)
	}
	s.mu.Unlock()
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

func (s *segment) receiversLocked(from *port, dst hwaddr.MAC) []*port {
	if to, known := s.learned[dst]; known && !dst.IsGroup() {
		if to == from {
			return nil
		}
		return []*port{to}
	}
	others := make([]*port, 0, len(s.ports))
	for _, to := range s.ports {
		if to != from {
			others = append(others, to)
		}
	}
	return others
}

func (s *segment) scheduleLocked(from, to *port, frame []byte) {
	if len(s.waiting) >= maxWaiting {
		return
	}
	due := time.Now()
	for _, c := range []Conditions{from.conditions, s.conditions, to.conditions} {
		if c.Loss > 0 && s.random.Float64() < c.Loss {
			return
		}
		due = due.Add(c.Latency)
		if c.Jitter > 0 {
			due = due.Add(time.Duration(s.random.Int64N(int64(c.Jitter))))
		}
	}
	s.order++
	heap.Push(&s.waiting, waitingFrame{due: due, order: s.order, to: to, frame: frame})
}

// run delivers frames until close.
func (s *segment) run() {
	defer close(s.stopped)
	timer := time.NewTimer(time.Hour)
	defer timer.Stop()
	for {
		ready, wait := s.takeReady()
		for _, f := range ready {
			f.to.receive(f.frame)
		}
		if len(ready) > 0 {
			continue
		}
		timer.Reset(wait)
		select {
		case <-s.done:
			return
		case <-s.wake:
		case <-timer.C:
		}
	}
}

// takeReady gives the frames that are due, or how long to wait for the first one.
func (s *segment) takeReady() (ready []waitingFrame, wait time.Duration) {
	s.mu.Lock()
	defer s.mu.Unlock()
	now := time.Now()
	for len(s.waiting) > 0 && !s.waiting[0].due.After(now) {
		ready = append(ready, heap.Pop(&s.waiting).(waitingFrame))
	}
	if len(ready) == 0 && len(s.waiting) > 0 {
		return nil, s.waiting[0].due.Sub(now)
	}
	return ready, time.Hour
}

// close stops delivery and waits for the frame being delivered.
func (s *segment) close() {
	close(s.done)
	<-s.stopped
}

type waitingFrame struct {
	due   time.Time
	order uint64 // keeps frames that are due at once in the order they were sent
	to    *port
	frame []byte
}

type frameHeap []waitingFrame

func (h frameHeap) Len() int { return len(h) }
func (h frameHeap) Less(i, j int) bool {
	if h[i].due.Equal(h[j].due) {
		return h[i].order < h[j].order
	}
	return h[i].due.Before(h[j].due)
}
func (h frameHeap) Swap(i, j int) { h[i], h[j] = h[j], h[i] }
func (h *frameHeap) Push(x any)   { *h = append(*h, x.(waitingFrame)) }
func (h *frameHeap) Pop() any {
	old := *h
	last := old[len(old)-1]
	*h = old[:len(old)-1]
	return last
}
