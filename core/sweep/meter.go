package sweep

import (
	"sync"
	"time"
)

// meter counts what a stage has done and sent.
type meter struct {
	mu        sync.Mutex // guards all below
	stage     Stage
	began     time.Time
	done      uint64
	total     uint64
	sentStage uint64
	sentAll   uint64
}

func (m *meter) start(stage Stage) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.stage, m.began, m.done, m.total, m.sentStage = stage, time.Now(), 0, 0, 0
}

func (m *meter) expect(questions uint64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.total += questions
}

// settle counts questions that need no more work, whether they were sent or found needless.
func (m *meter) settle(questions uint64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.done += questions
}

func (m *meter) send() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.sentStage++
	m.sentAll++
}

func (m *meter) sent() uint64 {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.sentAll
}

func (m *meter) progress(found int) Progress {
	m.mu.Lock()
	defer m.mu.Unlock()
	p := Progress{Stage: m.stage, Done: min(m.done, m.total), Total: m.total, Found: found}
	took := time.Since(m.began)
	if took > 0 {
		p.Rate = float64(m.sentStage) / took.Seconds()
	}
	if p.Done > 0 {
		p.Left = time.Duration(float64(took) / float64(p.Done) * float64(p.Total-p.Done))
	}
	return p
}
