package ledger

import (
	"slices"

	"airdrift/core/netrange"
	"airdrift/core/register"
)

// Said is what people say of a site's devices, against which a ledger is held.
type Said struct {
	Entries   []register.Entry // the whole register
	Decisions []Decision       // those that hold, in the order in which they were made
	Covered   netrange.Set     // what whole sweeps have covered
	Grown     bool             // Covered holds more than when the ledger was settled last
}

// Settle holds the devices of a result against the register and what people have said: these, and all others that are affected by them
// or by one of the entries that have changed. Devices and entries that have nothing in common, neither directly nor by others, cannot
// affect each other. Behind the devices that were there the result has those others, and those that stand for entries of which no device
// was seen. gone are the numbers of such devices that are no more.
func (r *Result) Settle(shelf Shelf, said Said, changed ...register.Entry) (gone []uint64, err error) {
	c := newCircle(r, said)
	for _, e := range changed {
		c.include(e)
	}
	if said.Grown {
		missing, err := shelf.Missing()
		if err != nil {
			return nil, err
		}
		c.add(missing)
	}
	for _, d := range r.Devices {
		c.follow(d)
	}
	for _, term := range r.Left {
		c.reach(term)
	}
	for fresh := c.terms.fresh(); len(fresh) > 0; fresh = c.terms.fresh() {
		devices, err := shelf.KnownBy(fresh)
		if err != nil {
			return nil, err
		}
		c.add(devices)
	}
	r.Devices = Match(r.Devices, c.touchedEntries(), c.touchedDecisions(nil), said.Covered)
	for i := range r.Devices {
		if d := &r.Devices[i]; d.FirstSeen.IsZero() {
			d.ID = c.standIns[d.Entry.ID]
			delete(c.standIns, d.Entry.ID)
		}
	}
	for _, id := range c.standIns {
		gone = append(gone, id)
	}
	Decide(r.Devices, c.touchedDecisions(gone))
	return gone, nil
}

// circle is all that some devices and entries can affect.
type circle struct {
	result    *Result
	said      Said
	entries   map[Term][]int    // the register by the terms of its entries
	decisions map[Term][]int    // decisions that apply to no device yet, by the terms of what they were made of
	links     map[uint64][]int  // decisions that link, by the number of the device
	linkedTo  map[uint64][]int  // the same by the number of the entry
	numbered  map[uint64]int    // the register by the numbers of its entries
	terms     terms             // by which devices are looked for
	known     map[uint64]bool   // numbers of devices that are in it, or that are no more
	numbers   map[uint64]bool   // those of devices in it, former ones too
	standIns  map[uint64]uint64 // devices that stand for entries, by the entry
	inEntries []bool            // whether each entry is in it
	inWaiting map[int]bool      // decisions that apply to no device yet and are in it
}

func newCircle(r *Result, said Said) *circle {
	c := &circle{
		result: r, said: said, entries: map[Term][]int{}, decisions: map[Term][]int{}, links: map[uint64][]int{}, linkedTo: map[uint64][]int{},
		numbered: make(map[uint64]int, len(said.Entries)), terms: terms{}, known: map[uint64]bool{}, numbers: map[uint64]bool{},
		standIns: map[uint64]uint64{}, inEntries: make([]bool, len(said.Entries)), inWaiting: map[int]bool{},
	}
	for i, e := range said.Entries {
		c.numbered[e.ID] = i
		t := terms{}
		entryTerms(t, e)
		for term := range t {
			c.entries[term] = append(c.entries[term], i)
		}
	}
	for i, d := range said.Decisions {
		t := terms{}
		d.terms(t)
		for term := range t {
			c.decisions[term] = append(c.decisions[term], i)
		}
		if d.Kind == DecidedLink {
			c.linkedTo[d.Other.Entry] = append(c.linkedTo[d.Other.Entry], i)
			for _, device := range distinctNumbers(d.Device, d.Holder) {
				c.links[device] = append(c.links[device], i)
			}
		}
	}
	for _, d := range r.Devices {
		c.known[d.ID] = d.ID != 0
	}
	for _, m := range r.Merges {
		c.known[m.From] = true
	}
	return c
}

// add takes devices in that are affected.
func (c *circle) add(devices []Device) {
	for _, d := range devices {
		if c.known[d.ID] {
			continue
		}
		c.known[d.ID] = true
		if d.FirstSeen.IsZero() {
			c.numbers[d.ID] = true
			if d.Entry != nil {
				c.standIns[d.Entry.ID] = d.ID
			}
		} else {
			c.result.Devices = append(c.result.Devices, d)
		}
		c.follow(d)
	}
}

// follow takes in what a device has something in common with.
func (c *circle) follow(d Device) {
	for _, id := range append([]uint64{d.ID}, d.Was...) {
		c.numbers[id] = id != 0
		for _, i := range c.links[id] {
			c.followLink(c.said.Decisions[i])
		}
	}
	for _, term := range d.Terms() {
		c.reach(term)
	}
}

// include takes in whatever an entry may mean, and the other entries that may mean the same.
func (c *circle) include(e register.Entry) {
	t := terms{}
	entryTerms(t, e)
	for term := range t {
		if _, asked := c.terms[term]; !asked {
			c.terms[term] = false
		}
		c.reach(term)
	}
	for _, i := range c.linkedTo[e.ID] {
		d := c.said.Decisions[i]
		for _, device := range distinctNumbers(d.Device, d.Holder) {
			c.terms.addNumber(termNumber, device)
		}
		if d.Holder == 0 && !c.inWaiting[i] {
			c.inWaiting[i] = true
			d.terms(c.terms)
		}
	}
}

// followLink takes in the entry that a decision links a device to.
func (c *circle) followLink(d Decision) {
	if i, is := c.numbered[d.Other.Entry]; is && !c.inEntries[i] {
		c.inEntries[i] = true
		c.include(c.said.Entries[i])
	}
}

// distinctNumbers gives numbers of devices, each once and without 0.
func distinctNumbers(a, b uint64) []uint64 {
	var numbers []uint64
	for _, n := range []uint64{a, b} {
		if n != 0 && !slices.Contains(numbers, n) {
			numbers = append(numbers, n)
		}
	}
	return numbers
}

// reach takes in the entries and the waiting decisions that have a term.
func (c *circle) reach(term Term) {
	entries, decisions := c.entries[term], c.decisions[term]
	delete(c.entries, term) // once is enough
	delete(c.decisions, term)
	for _, i := range entries {
		if !c.inEntries[i] {
			c.inEntries[i] = true
			c.include(c.said.Entries[i])
		}
	}
	for _, i := range decisions {
		if decision := c.said.Decisions[i]; decision.Holder == 0 && !c.inWaiting[i] {
			c.inWaiting[i] = true
			decision.terms(c.terms)
			if decision.Kind == DecidedLink {
				c.followLink(decision)
			}
		}
	}
}

func (c *circle) touchedEntries() []register.Entry {
	var entries []register.Entry
	for i, e := range c.said.Entries {
		if c.inEntries[i] {
			entries = append(entries, e)
		}
	}
	return entries
}

// touchedDecisions gives the decisions that apply to devices in the circle, or may from now on.
func (c *circle) touchedDecisions(gone []uint64) []Decision {
	for _, id := range gone {
		c.numbers[id] = true
	}
	var decisions []Decision
	for i, d := range c.said.Decisions {
		if c.inWaiting[i] || d.Holder != 0 && c.numbers[d.Holder] || d.Holder == 0 && c.numbers[d.Device] {
			decisions = append(decisions, d)
		}
	}
	return decisions
}

// terms adds by what the device of a decision may be found.
func (d Decision) terms(t terms) {
	t.add(termUnit, d.Known.Unit)
	for _, m := range d.Known.MACs {
		t.addMAC(m)
	}
	for _, a := range d.Known.Addrs {
		t.addAddr(a)
	}
	for _, k := range d.Known.Keys {
		t.add(termKey, k.Key, k.Value)
	}
	if d.Known.Entry != 0 {
		t.addNumber(termEntry, d.Known.Entry)
	}
}
