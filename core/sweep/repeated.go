package sweep

import (
	"net/netip"
	"slices"
	"sync"

	"airdrift/core/evidence"
)

// repeated are what devices have told in answer to questions to all of the segment, by address. Some answer to those alone, as
// their programs listen at the group's address and at no other.
type repeated struct {
	mu    sync.Mutex // guards all below
	by    map[netip.Addr][]evidence.Item
	asked map[string]bool // identifiers of the questions that have one
}

// ask notes the identifier of a question.
func (r *repeated) ask(id string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.asked == nil {
		r.asked = map[string]bool{}
	}
	r.asked[id] = true
}

// add takes in an answer; to is the identifier of the question it is to, "" where its protocol names none. One to a question that
// was not put is none.
func (r *repeated) add(a netip.Addr, to string, items []evidence.Item) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.by == nil {
		r.by = map[netip.Addr][]evidence.Item{}
	}
	if _, known := r.by[a]; (to == "" || r.asked[to]) && (known || len(r.by) < maxHeard) {
		r.by[a] = evidence.Merge(r.by[a], items, evidence.Heard)
	}
}

func (r *repeated) of(a netip.Addr) []evidence.Item {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.Clone(r.by[a])
}

// all gives what each device has told by a protocol's facts.
func (r *repeated) all(source evidence.Source) [][]evidence.Item {
	r.mu.Lock()
	defer r.mu.Unlock()
	var all [][]evidence.Item
	for _, items := range r.by {
		if like := slices.DeleteFunc(slices.Clone(items), func(it evidence.Item) bool { return it.Source != source }); len(like) > 0 {
			all = append(all, like)
		}
	}
	return all
}
