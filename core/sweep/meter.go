package sweep

import (
	"sync"
	"time"
)

// meter counts what each stage has done and sent. Asking is counted from the beginning, as it goes on while the roll is called.
type meter struct {
	mu    sync.Mutex // guards all below
	stage class
	began time.Time
	of    [classes + 1]counts // the last of reading, whose questions are sent as those of asking
	sentB uint64              // sent by all before the stage began
}

// counts are those of one stage, in questions.
type counts struct{ done, total, sent uint64 }

// reading is what of the meter is the stage of that name.
const reading class = classes

var stageOf = map[Stage]class{RollCall: calling, Asking: asking, Reading: reading}

func (m *meter) start(stage Stage) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.stage, m.began, m.sentB = stageOf[stage], time.Now(), m.sentLocked()
}

func (m *meter) expect(c class, questions uint64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.of[c].total += questions
}

// settle counts questions that need no more work, whether they were sent or found needless.
func (m *meter) settle(c class, questions uint64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.of[c].done += questions
}

func (m *meter) send(c class) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.of[c].sent++
}

func (m *meter) sent() uint64 {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.sentLocked()
}

func (m *meter) sentLocked() uint64 { return m.of[calling].sent + m.of[asking].sent }

func (m *meter) progress(found int) Progress {
	m.mu.Lock()
	defer m.mu.Unlock()
	stage, c := [...]Stage{RollCall, Asking, Reading}[m.stage], m.of[m.stage]
	p := Progress{Stage: stage, Done: min(c.done, c.total), Total: c.total, Found: found}
	took := time.Since(m.began)
	if took > 0 {
		p.Rate = float64(m.sentLocked()-m.sentB) / took.Seconds()
	}
	if p.Done > 0 {
		p.Left = time.Duration(float64(took) / float64(p.Done) * float64(p.Total-p.Done))
	}
	return p
}
