package sweep

import (
	"context"
	"errors"
	"sync"
	"time"

	"airdrift/core/probe"
)

// faults are what our own machine lacked, each told once.
type faults struct {
	mu   sync.Mutex // guards told
	told map[string]bool
}

// isNew reports whether a fault has not been told yet.
func (f *faults) isNew(text string) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.told == nil {
		f.told = map[string]bool{}
	}
	was := f.told[text]
	f.told[text] = true
	return !was
}

const (
	// faultPause is how long is waited after a fault of our own machine, twice as long each time up to maxFaultPause.
	faultPause, maxFaultPause = 50 * time.Millisecond, 5 * time.Second
	// faultsFor is how long it is tried again before the sweep ends.
	faultsFor = goneFor
)

// persist tries again for as long as our own machine lacks something, such as sockets or buffers, which says nothing of anybody
// else. Other errors are given back as they are.
func (e *engine) persist(ctx context.Context, try func() error) error {
	wait, began := faultPause, time.Now()
	for {
		err := try()
		var own *probe.OwnFaultError
		if !errors.As(probe.OwnFault(err), &own) || time.Since(began) > faultsFor {
			return err
		}
		if e.faults.isNew(own.Err.Error()) {
			e.warn("This machine could not send: %v. The sweep waits and tries again; nobody is taken to be silent for it.", own.Err)
		}
		if err := pause(ctx, wait); err != nil {
			return err
		}
		if err := e.gate.wait(ctx); err != nil {
			return err
		}
		wait = min(2*wait, maxFaultPause)
	}
}
