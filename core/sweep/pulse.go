package sweep

import (
	"net/netip"
	"slices"
	"sync"
)

// manySilences is how many questions in a row may go unanswered before it is found out whether the device still answers
// at all.
const manySilences = 12

// pulse keeps whether a device still answers while it is asked.
type pulse struct {
	mu       sync.Mutex // guards all below
	good     uint16     // a TCP port at which it has answered; 0 where there is none
	silences int        // questions in a row without an answer
	spoke    bool       // it has answered at all
	checking bool
	gone     bool
}

// beat takes in an answer: at a TCP port, or 0 for another kind.
func (p *pulse) beat(port uint16) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.silences, p.spoke = 0, true
	if port != 0 {
		p.good = port
	}
}

// miss takes in a silence, and reports whether it is time to find out.
func (p *pulse) miss() (port uint16, check bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.silences++
	if p.silences < manySilences || p.good == 0 || p.checking || p.gone {
		return 0, false
	}
	p.checking = true
	return p.good, true
}

func (p *pulse) checked(gone bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.checking, p.gone, p.silences = false, gone, 0
}

func (p *pulse) isGone() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.gone
}

// stoppers are the addresses that stopped answering while being asked, those that did not answer any more afterwards, and those at
// which not all could be asked.
type stoppers struct {
	mu      sync.Mutex // guards all below
	stopped []netip.Addr
	lost    []string // with the question that was put last
	shared  []string // at which several answer, of which one was asked
}

func (s *stoppers) addShared(a netip.Addr) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.shared = append(s.shared, a.String())
}

func (s *stoppers) addStopped(a netip.Addr) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.stopped = append(s.stopped, a)
}

func (s *stoppers) addLost(a netip.Addr, last string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.lost = append(s.lost, a.String()+" ("+last+")")
}

// tellStopped warns of those that stopped answering.
func (e *engine) tellStopped() {
	e.stopped.mu.Lock()
	defer e.stopped.mu.Unlock()
	if len(e.stopped.stopped) > 0 {
		slices.SortFunc(e.stopped.stopped, netip.Addr.Compare)
		names := make([]string, len(e.stopped.stopped))
		for i, a := range e.stopped.stopped {
			names[i] = a.String()
		}
		e.warn("Stopped answering while being asked, and left alone from then on: %s. What they had said is kept; try a gentler pace.", someOf(names))
	}
	if len(e.stopped.shared) > 0 {
		slices.Sort(e.stopped.shared)
		e.warn("Several devices hold each of these addresses, or others speak in their names, and one alone could be asked there: %s. With CAP_NET_ADMIN the service could ask each of them.", someOf(slices.Compact(e.stopped.shared)))
	}
	if len(e.stopped.lost) > 0 {
		slices.Sort(e.stopped.lost)
		e.warn("Answered before they were asked and not after: %s, with the question that was put last. Look whether they still work, and leave that question out.", someOf(e.stopped.lost))
	}
}
