package service

import (
	"context"
	"testing"
	"testing/synctest"
	"time"

	"airdrift/store"
)

// Who has seen a sweep end may go on at once, though putting it away takes a moment.
func TestSweepThatHasEndedIsWaitedFor(t *testing.T) {
	for _, tt := range []struct {
		name  string
		state store.SweepState
		away  time.Duration // when it is put away; 0 for never
		free  bool
		took  time.Duration
	}{
		{"ended, and put away", store.Done, time.Second, true, time.Second},
		{"ended, and stuck", store.Failed, 0, false, settleWait},
		{"running", store.Running, 0, false, 0},
	} {
		synctest.Test(t, func(t *testing.T) {
			ctx, cancel := context.WithCancel(t.Context())
			defer cancel()
			j := newJob(store.Sweep{ID: 1, SiteID: 7, State: tt.state}, nil, nil, nil, nil, nil)
			s := &sweeper{base: ctx, jobs: map[uint64]*job{1: j}, closed: map[uint64]bool{}, takenUp: make(chan struct{})}
			close(s.takenUp)
			if tt.away > 0 {
				time.AfterFunc(tt.away, func() {
					s.mu.Lock()
					defer s.mu.Unlock()
					delete(s.jobs, 1)
					close(j.done)
				})
			}
			begin := time.Now()
			err := s.aside(ctx, 7, func() error { return nil })
			if (err == nil) != tt.free || time.Since(begin) != tt.took {
				t.Errorf("%s: %v after %s", tt.name, err, time.Since(begin))
			}
			if err := s.aside(ctx, 8, func() error { return nil }); err != nil {
				t.Errorf("%s: another site: %v", tt.name, err)
			}
		})
	}
}
