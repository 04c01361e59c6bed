package ledger

import "cmp"

// Compare tells what a sweep has found that another one, earlier or later, had not, as if there were no others: of both, Devices says which
// device each sighting was taken for. What the second did not look at it says nothing about.
func Compare(first, second Sweep, identifier Identifier) (Result, error) {
	before, err := enterTaken(nil, first, identifier)
	if err != nil {
		return Result{}, err
	}
	return enterTaken(before.Devices, second, identifier)
}

// enterTaken enters a sweep whose sightings are the devices that they were taken for.
func enterTaken(known []Device, sweep Sweep, identifier Identifier) (Result, error) {
	b := newBook(Whole(known), sweep, identifier)
	bodies := b.taken()
	b.lookBeyond()
	if err := b.look(bodies); err != nil {
		return Result{}, err
	}
	for _, body := range bodies {
		at, isKnown := b.at[sweep.Devices[body.index[0]]]
		if !isKnown {
			at = -1
		}
		b.enter(body, at)
	}
	if err := b.lookAround(); err != nil {
		return Result{}, err
	}
	b.markUnseen()
	b.markContested()
	return b.result(), cmp.Or(b.err, b.reader.err)
}

// taken puts the sightings together that were taken for one device.
func (b *book) taken() []body {
	b.reader.takeMACs()
	at := map[uint64]int{}
	var bodies []body
	for i, s := range b.reader.sightings {
		number := b.sweep.Devices[i]
		n, is := at[number]
		if !is || number == 0 {
			n = len(bodies)
			at[number] = n
			bodies = append(bodies, body{})
		}
		bodies[n].sightings = append(bodies[n].sightings, s)
		bodies[n].index = append(bodies[n].index, i)
	}
	return b.told(bodies)
}
