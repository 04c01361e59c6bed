package sweep

import (
	"net/netip"
	"sync"
	"time"
)

// sendTimes remembers when each address was first asked, to measure round trips. Of addresses asked again it remembers
// only that, since their answer could belong to either question.
type sendTimes struct {
	mu sync.Mutex // guards at
	at map[netip.Addr]time.Time
}

// maxSendTimes bounds what is remembered of segments of untold addresses; beyond it round trips are not measured.
const maxSendTimes = 1 << 17

func newSendTimes() *sendTimes { return &sendTimes{at: map[netip.Addr]time.Time{}} }

func (s *sendTimes) note(a netip.Addr, round int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case len(s.at) >= maxSendTimes:
	case round == 0:
		s.at[a] = time.Now()
	default:
		s.at[a] = time.Time{}
	}
}

// take gives when an address was asked: asked says that it was and that this is the first answer, sure that it was asked
// but once.
func (s *sendTimes) take(a netip.Addr) (at time.Time, asked, sure bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	at, asked = s.at[a]
	delete(s.at, a)
	return at, asked, asked && !at.IsZero()
}

// isAwaited reports whether an address was asked and has not answered yet.
func (s *sendTimes) isAwaited(a netip.Addr) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	_, asked := s.at[a]
	return asked
}
