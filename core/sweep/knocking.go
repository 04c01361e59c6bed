package sweep

import (
	"cmp"
	"net/netip"
	"slices"
	"sync"

	"airdrift/core/probe"
)

// maxPackets is how many packets a silent address costs at the most, echo requests among them.
const maxPackets = 10

// nobody is the chance that somebody is at an address below which knocking there stops.
const nobody = 1e-4

// knocking learns how knocks at addresses that gave no echo pay in each network. Those who are met by them are of two kinds: open
// ones, which at least refuse whatever is knocked at, and shy ones, which answer at the ports that they offer and nowhere else.
type knocking struct {
	mu sync.Mutex // guards by
	by map[netip.Prefix]*knockings
}

// knockings are the experience of one network.
type knockings struct {
	vain, open, shy float64            // addresses at which nobody was met, and those who were, by kind
	tries, hits     map[uint16]float64 // of the shy, by port
}

func newKnocking() *knocking { return &knocking{by: map[netip.Prefix]*knockings{}} }

func (k *knocking) ofLocked(network netip.Prefix) *knockings {
	own := k.by[network]
	if own == nil {
		own = &knockings{tries: map[uint16]float64{}, hits: map[uint16]float64{}}
		k.by[network] = own
	}
	return own
}

// What is believed before anything was learned: one address in fifty has somebody behind it, half of whom are shy, and a shy one
// answers at a quarter of the ports. An open one answers at any port.
const (
	addressesBefore, metBefore = 10, 0.2
	shyBefore, portsBefore     = 0.5, 4
	hitBefore, openAnswers     = 0.25, 0.98
)

// chances are those that an address has somebody open or shy behind it, and that a shy one answers at a port.
func (o *knockings) chances() (open, shy float64) {
	met := (o.open + o.shy + metBefore) / (o.vain + o.open + o.shy + addressesBefore)
	share := (o.shy + shyBefore) / (o.open + o.shy + 1)
	return met * (1 - share), met * share
}

func (o *knockings) hit(port uint16) float64 {
	return (o.hits[port] + hitBefore*portsBefore) / (o.tries[port] + portsBefore)
}

// firstLost is the chance that the first packet to an address beyond a router gets lost: the router has to look for the address by ARP
// first, and many drop what made them look, or hold few packets meanwhile (RFC 1122, 2.3.2.2, asks that one be kept).
const firstLost = 0.5

// plan gives the ports to knock at, in the order in which that is likely to pay, at most so many: until hardly anybody can be there
// who has not answered. Where packets get lost a port may be tried again. fresh says that nothing was sent to the address before.
func (k *knocking) plan(network netip.Prefix, most int, loss float64, fresh bool) []uint16 {
	k.mu.Lock()
	defer k.mu.Unlock()
	own := k.ofLocked(network)
	open, shy := own.chances()
	unheard := map[uint16]float64{} // the chance that all tries so far were lost
	for _, port := range probe.KnockPorts() {
		unheard[port] = 1
	}
	answers := func(port uint16, loss float64) float64 {
		// That it would answer, if what was sent so far were not lost.
		h := own.hit(port)
		would := h * unheard[port]
		return would / (1 - h + would) * (1 - loss)
	}
	var plan []uint16
	for len(plan) < max(1, most-1) { // the first is waited for so long that the system sends it twice
		lost := loss
		if fresh && len(plan) == 0 {
			lost = max(loss, firstLost)
		}
		port := slices.MaxFunc(probe.KnockPorts(), func(a, b uint16) int { return cmp.Compare(answers(a, lost), answers(b, lost)) })
		plan = append(plan, port)
		missOpen, missShy := 1-openAnswers*(1-lost), 1-answers(port, lost)
		unheard[port] *= lost
		open, shy = open*missOpen, shy*missShy
		if open+shy < nobody {
			break
		}
	}
	return plan
}

// paid takes in that somebody was met at a port, behind so many knocks in vain. Who answers the first is open, as far as is known.
func (k *knocking) paid(network netip.Prefix, port uint16, behind int) {
	k.mu.Lock()
	defer k.mu.Unlock()
	own := k.ofLocked(network)
	if behind == 0 {
		own.open++
		return
	}
	own.shy++
	own.tries[port]++
	own.hits[port]++
}

// inVain takes in that nobody was met by a plan.
func (k *knocking) inVain(network netip.Prefix, plan []uint16) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.ofLocked(network).vain += min(1, float64(len(plan))/float64(len(probe.KnockPorts()))) // a short one has learned little
}
