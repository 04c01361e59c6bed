package sweep

import (
	"context"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"
)

func TestTurnsKeepTheRate(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		turns, began := newTurns(5), time.Now()
		for range 51 {
			if err := turns.take(t.Context(), asking); err != nil {
				t.Fatal(err)
			}
		}
		if took := time.Since(began); took < 9900*time.Millisecond || took > 10100*time.Millisecond {
			t.Errorf("51 turns at 5 a second took %s", took)
		}
	})
}

// Who gives up waiting gives his turn back: the others do not wait the longer for it.
func TestTurnsGivenUpAreReturned(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		turns := newTurns(1)
		_ = turns.take(t.Context(), asking)
		ctx, cancel := context.WithTimeout(t.Context(), 500*time.Millisecond)
		defer cancel()
		for range 100 {
			go func() { _ = turns.take(ctx, asking) }()
		}
		synctest.Wait()
		began := time.Now()
		if err := turns.take(t.Context(), asking); err != nil {
			t.Fatal(err)
		}
		if took := time.Since(began); took > 1100*time.Millisecond {
			t.Errorf("a turn came after %s, behind a hundred that were given up", took)
		}
	})
}

// Calling and asking share the rate, however many wait on one side.
func TestTurnsAreSharedByTheClasses(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		turns := newTurns(10)
		ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
		defer cancel()
		var asked, called atomic.Int32
		for range 50 {
			go func() {
				for turns.take(ctx, asking) == nil {
					asked.Add(1)
				}
			}()
		}
		go func() {
			for turns.take(ctx, calling) == nil {
				called.Add(1)
			}
		}()
		<-ctx.Done()
		synctest.Wait()
		if called.Load() < 45 || asked.Load() < 45 {
			t.Errorf("of 100 turns calling had %d and asking %d", called.Load(), asked.Load())
		}
	})
}
