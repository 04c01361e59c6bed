package sweep

import (
	"context"
	"errors"
	"net"
	"os"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"
)

// A wait is drawn out by what the machine stood still meanwhile, by no more than maxGrace, and not by what was before.
func TestWaitsAreDrawnOut(t *testing.T) {
	for _, tt := range []struct {
		name         string
		before, then time.Duration
		want         time.Duration
	}{
		{"a machine that keeps up", 0, 0, time.Second},
		{"one that stood still before", 5 * time.Second, 0, time.Second},
		{"one that stands still meanwhile", 0, 400 * time.Millisecond, 1400 * time.Millisecond},
		{"one that hardly runs", 0, time.Hour, time.Second + maxGrace},
		{"a timer that is a little late", 0, usualLate / 2, time.Second},
	} {
		synctest.Test(t, func(t *testing.T) {
			var s stalls
			s.total.Add(int64(tt.before))
			began := time.Now()
			defer time.AfterFunc(time.Millisecond, func() { s.total.Add(int64(tt.then)) }).Stop()
			if err := s.wait(t.Context(), time.Second); err != nil || time.Since(began) != tt.want {
				t.Errorf("%s: it waited for %s, want %s; %v", tt.name, time.Since(began), tt.want, err)
			}
			var called atomic.Int64 // after how long
			began = time.Now()
			s.after(time.Second, func() { called.Store(int64(time.Since(began))) })
			stop := s.after(time.Second, func() { t.Errorf("%s: what was stopped was called", tt.name) })
			stop()
			s.total.Add(int64(tt.then))
			if _ = s.wait(t.Context(), time.Minute); time.Duration(called.Load()) != tt.want {
				t.Errorf("%s: it was called after %s, want %s", tt.name, time.Duration(called.Load()), tt.want)
			}
		})
	}
}

// An attempt to connect that is given up tells of a deadline, and one that was broken off does not.
func TestDialGivesUp(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var s stalls
		silent := func(ctx context.Context) (net.Conn, error) {
			<-ctx.Done()
			return nil, ctx.Err()
		}
		if _, err := s.dial(t.Context(), time.Second, silent); !errors.Is(err, os.ErrDeadlineExceeded) {
			t.Errorf("given up, it says %v", err)
		}
		ctx, cancel := context.WithCancel(t.Context())
		cancel()
		if _, err := s.dial(ctx, time.Second, silent); err == nil || errors.Is(err, os.ErrDeadlineExceeded) {
			t.Errorf("broken off, it says %v", err)
		}
	})
}

// What is read up to a deadline is read on where the machine stood still, and not where somebody has ended it.
func TestReadingGoesOnAfterAStall(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ours, theirs := net.Pipe()
		defer ours.Close()
		defer theirs.Close()
		var s stalls
		conn := newTimedConn(ours, &clock{}, &s)
		_ = conn.SetReadDeadline(time.Now().Add(time.Second))
		s.total.Add(int64(2 * time.Second))
		go func() {
			<-time.After(1500 * time.Millisecond)
			_, _ = theirs.Write([]byte("late"))
		}()
		if n, err := conn.Read(make([]byte, 8)); n != 4 || err != nil {
			t.Errorf("of a late answer %d bytes were read, %v", n, err)
		}
		_ = conn.SetReadDeadline(time.Unix(1, 0))
		s.total.Add(int64(time.Hour))
		if _, err := conn.Read(make([]byte, 8)); !isTimeout(err) {
			t.Errorf("what was ended was read on: %v", err)
		}
	})
}
