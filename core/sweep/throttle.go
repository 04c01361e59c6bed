package sweep

import (
	"math"
	"sync"
)

const (
	// lossWindow is how many answers make one measurement of loss.
	lossWindow = 100
	// lossTolerance is how much more loss than is usual here makes the sweep try a slower pace.
	lossTolerance = 0.10
	// slowest is the least share of its pace a sweep goes back to.
	slowest = 1.0 / 8
)

// throttle holds a sweep to its pace, and to less where its own questions are what gets lost. Loss that a slower pace
// does not mend is the network's own; going slowly for ever would help nobody then.
type throttle struct {
	turns  *turns
	full   float64
	slowed func(share float64) // told when a slower pace has proved to help

	mu       sync.Mutex // guards all below
	allFirst int        // answers to a first question, of the whole sweep
	allLate  int        // answers to a question that had to be repeated, of the whole sweep
	first    int        // the same since the last judgement
	late     int
	usual    float64 // loss that is the network's own
	before   float64 // loss before the trial
	trying   bool    // the pace was halved, and it is not yet known whether that helps
	now      float64 // probes/s
	previous float64
}

func newThrottle(p Pace, slowed func(share float64)) *throttle {
	return &throttle{turns: newTurns(p.Rate), full: p.Rate, now: p.Rate, slowed: slowed}
}

// answered takes in that a question was answered; late says that it had to be repeated.
func (t *throttle) answered(late bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if late {
		t.late++
		t.allLate++
	} else {
		t.first++
		t.allFirst++
	}
	if t.first+t.late < lossWindow {
		return
	}
	loss := float64(t.late) / float64(t.first+t.late)
	t.first, t.late = 0, 0
	t.judgeLocked(loss)
}

func (t *throttle) judgeLocked(loss float64) {
	now := t.now
	switch {
	case t.trying && loss > t.before*3/4:
		t.trying, t.usual = false, loss
		t.setLocked(t.previous)
	case t.trying:
		t.trying = false
		t.slowed(now / t.full)
	case loss > t.usual+lossTolerance && now > t.full*slowest:
		t.trying, t.before, t.previous = true, loss, now
		t.setLocked(now / 2)
	case now < t.full:
		t.setLocked(min(t.full, now*5/4))
	}
}

func (t *throttle) setLocked(rate float64) {
	t.now = rate
	t.turns.setRate(rate)
}

const (
	// fewAnswers is how many answers there must be before they say anything of the loss.
	fewAnswers = 20
	// missed is the share of answers that may get lost for good.
	missed = 0.0001
)

// tries gives how often a question is asked of a device that keeps silent: as often as the pace says, and more often where so much gets
// lost that this would miss somebody.
func (t *throttle) tries(usual, most int) int {
	t.mu.Lock()
	defer t.mu.Unlock()
	answers := t.allFirst + t.allLate
	if answers < fewAnswers || t.allLate == 0 {
		return usual
	}
	loss := float64(t.allLate) / float64(answers)
	needed := int(math.Ceil(math.Log(missed) / math.Log(loss)))
	return min(max(usual, needed), max(usual, most))
}

// usualLoss is taken for the loss while it is not known.
const usualLoss = 0.02

// loss gives the share of questions, or of their answers, that get lost.
func (t *throttle) loss() float64 {
	t.mu.Lock()
	defer t.mu.Unlock()
	answers := t.allFirst + t.allLate
	if answers < fewAnswers {
		return usualLoss
	}
	return float64(t.allLate) / float64(answers)
}
