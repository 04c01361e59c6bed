package sweep

import (
	"context"
	"sync"
)

// gate is shut while nothing may be sent: the attachment is lost, our own machine lacks something, or the hours are quiet. It is shut
// for as long as somebody holds it shut.
type gate struct {
	mu   sync.Mutex // guards both
	shut int
	open chan struct{} // closed when the gate opens; nil while it is open
}

// wait returns once the gate is open. The error is that of ctx.
func (g *gate) wait(ctx context.Context) error {
	for {
		g.mu.Lock()
		open := g.open
		g.mu.Unlock()
		if open == nil {
			return ctx.Err()
		}
		select {
		case <-open:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

func (g *gate) isOpen() bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.open == nil
}

func (g *gate) close() {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.shut++; g.shut == 1 {
		g.open = make(chan struct{})
	}
}

func (g *gate) reopen() {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.shut--; g.shut == 0 {
		close(g.open)
		g.open = nil
	}
}
