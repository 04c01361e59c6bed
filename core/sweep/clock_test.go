package sweep

import (
	"net"
	"testing"
	"testing/synctest"
	"time"
)

// Answers are timed from when the question has left; what comes late is not taken for the answer to what was asked since.
func TestAnswersAreTimed(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ours, theirs := net.Pipe()
		defer ours.Close()
		go func() { // takes 10 ms, then 20, then 3 s, which is too long, then 30
			defer theirs.Close()
			buf := make([]byte, 16)
			for _, took := range []time.Duration{10, 20, 3000, 30, 30} {
				if _, err := theirs.Read(buf); err != nil {
					return
				}
				time.Sleep(took * time.Millisecond) // on fake time
				if _, err := theirs.Write([]byte("a")); err != nil {
					return
				}
			}
		}()
		c := &clock{}
		conn := newTimedConn(ours, c, &stalls{})
		ask := func() error {
			if _, err := conn.Write([]byte("q")); err != nil {
				return err
			}
			_ = conn.SetReadDeadline(time.Now().Add(2 * time.Second))
			_, err := conn.Read(make([]byte, 16))
			return err
		}
		for i, fails := range []bool{false, false, true} {
			if err := ask(); (err != nil) != fails {
				t.Fatalf("question %d: %v", i, err)
			}
		}
		_ = conn.SetReadDeadline(time.Time{})
		if _, err := conn.Read(make([]byte, 16)); err != nil { // the one that was late
			t.Fatal(err)
		}
		if err := ask(); err != nil {
			t.Fatal(err)
		}
		times, ok := c.of("lab")
		if want := "lab 3 1 20 30 30"; !ok || times.String() != want {
			t.Errorf("%s, want %s", times, want)
		}
	})
}

// Of very many answers a sample is kept, and all are counted.
func TestManyAnswersAreSampled(t *testing.T) {
	c := &clock{}
	c.answered(time.Second) // the longest is told, whether the sample has it or not
	for range 10*maxTimed - 1 {
		c.answered(5 * time.Millisecond)
	}
	if times, _ := c.of("lab"); len(c.times) != maxTimed || times.String() != "lab 5120 0 5 5 1000" {
		t.Errorf("%s of %d", times, len(c.times))
	}
	if _, ok := (&clock{lost: 3}).of("lab"); ok {
		t.Error("times are told of who never answered")
	}
}
