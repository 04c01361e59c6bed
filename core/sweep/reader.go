package sweep

import (
	"context"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"airdrift/core/evidence"
	"airdrift/core/probe"
)

// reader counts what systems offer, once all have been asked, where the order wants it.
type reader struct{ *interviewer }

// readJob is the reading of one device, or of one behind it, by one protocol.
type readJob struct {
	who      evidence.Who
	protocol *probe.Protocol
}

// key names the job among those whose reading was broken off.
func (j readJob) key() string { return j.protocol.Name + " " + j.who.String() }

// run reads one system after the other, of each pace so many at a time as it lets.
func (r reader) run(ctx context.Context) error {
	jobs := r.jobs()
	queues := make([][]readJob, len(r.paces))
	for _, j := range jobs {
		at := r.paceOf(j.who.Addr)
		queues[at] = append(queues[at], j)
	}
	r.meter.expect(reading, uint64(len(jobs)))
	g, ctx := errgroup.WithContext(ctx)
	for at, queue := range queues {
		work := make(chan readJob)
		g.Go(func() error {
			defer close(work)
			for _, j := range queue {
				select {
				case work <- j:
				case <-ctx.Done():
					return ctx.Err()
				}
			}
			return nil
		})
		for range min(r.paces[at].Devices, len(queue)) {
			g.Go(func() error {
				for j := range work {
					if err := r.read(ctx, j); err != nil {
						return err
					}
					r.meter.settle(reading, 1)
				}
				return nil
			})
		}
	}
	return g.Wait()
}

// jobs gives what there is to read: of systems that have said that they speak a protocol by which something can be counted.
func (r reader) jobs() (jobs []readJob) {
	for _, p := range r.spoken {
		if p.Read == nil {
			continue
		}
		for _, who := range r.roster.whoTells(p.Reads) {
			if r.mayBeAsked(who.Addr) && r.paceAt(who.Addr).lets(p.Cost) {
				jobs = append(jobs, readJob{who, p})
			}
		}
	}
	slices.SortFunc(jobs, func(a, b readJob) int { return strings.Compare(a.key(), b.key()) })
	return jobs
}

// read reads one system and tells what was counted. What is broken off is kept, so that it can be gone on with.
func (r reader) read(ctx context.Context, j readJob) error {
	t := r.newTarget(j.who.Addr)
	device := r.deviceOf(t.addr)
	leave, err := r.care.enter(ctx, device, t.pace.Pace)
	if err != nil {
		return err
	}
	defer leave()
	progress := r.resume.reading(j.key())
	progress.Unit = j.who.Unit
	q := r.query(t, j.protocol)
	q.Pause = func(ctx context.Context) error {
		return r.care.connect(ctx, device, t.pace.Pace, func() error { return ctx.Err() })
	}
	q.Keep = func(p probe.Reading) { r.resume.readUpTo(j.key(), p) }
	items := j.protocol.Read(ctx, q, r.roster.itemsOf(j.who), &progress)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	r.resume.hasRead(j.key())
	if len(items) == 0 {
		return nil
	}
	s := evidence.Sighting{Addr: j.who.Addr, MAC: j.who.MAC, Unit: j.who.Unit, Answered: true, Whole: true, Items: items}
	if s.Unit != "" {
		s, _ = r.roster.noteUnit(s)
	} else {
		r.roster.note(s)
		s = r.roster.get(s.Addr, s.MAC)
	}
	r.tell(Sighted{Sighting: s, Whole: true})
	return nil
}
