package sweep

import (
	"cmp"
	"net/netip"
	"slices"
	"sync"
)

// maxPackets is how many packets a silent address costs at the most, echo requests among them.
const maxPackets = 10

// nobody is the chance that there is a device at an address below which no more TCP probes are sent to it.
const nobody = 1e-4

// tcpOrder learns which TCP probes of addresses that gave no echo are answered in each network. The devices found by them are of two kinds: open
// ones, which at least refuse at every port, and shy ones, which answer at the ports that they offer and nowhere else.
type tcpOrder struct {
	ports []uint16 // that are probed, at least one; the same for the whole sweep

	mu sync.Mutex // guards by
	by map[netip.Prefix]*tcpAnswers
}

// tcpAnswers are what is known of one network.
type tcpAnswers struct {
	vain, open, shy float64            // addresses at which no device answered, and at which one did, by kind
	tries, hits     map[uint16]float64 // of the shy, by port
}

func newTCPOrder(ports []uint16) *tcpOrder {
	return &tcpOrder{ports: ports, by: map[netip.Prefix]*tcpAnswers{}}
}

func (k *tcpOrder) ofLocked(network netip.Prefix) *tcpAnswers {
	own := k.by[network]
	if own == nil {
		own = &tcpAnswers{tries: map[uint16]float64{}, hits: map[uint16]float64{}}
		k.by[network] = own
	}
	return own
}

// What is believed before anything was learned: one address in fifty has a device behind it, half of which are shy, and a shy one
// answers at a quarter of the ports. An open one answers at any port.
const (
	addressesBefore, metBefore = 10, 0.2
	shyBefore, portsBefore     = 0.5, 4
	hitBefore, openAnswers     = 0.25, 0.98
)

// chances are those that an address has an open or a shy device behind it, and that a shy one answers at a port.
func (o *tcpAnswers) chances() (open, shy float64) {
	met := (o.open + o.shy + metBefore) / (o.vain + o.open + o.shy + addressesBefore)
	share := (o.shy + shyBefore) / (o.open + o.shy + 1)
	return met * (1 - share), met * share
}

func (o *tcpAnswers) hit(port uint16) float64 {
	return (o.hits[port] + hitBefore*portsBefore) / (o.tries[port] + portsBefore)
}

// firstLost is the chance that the first packet to an address beyond a router gets lost: the router has to look for the address by ARP
// first, and many drop what made them look, or hold few packets meanwhile (RFC 1122, 2.3.2.2, asks that one be kept).
const firstLost = 0.5

// plan gives the ports to probe, the likeliest to be answered first, at most so many: until hardly any device can be there
// that has not answered. Where packets get lost a port may be tried again. fresh says that nothing was sent to the address before.
func (k *tcpOrder) plan(network netip.Prefix, most int, loss float64, fresh bool) []uint16 {
	k.mu.Lock()
	defer k.mu.Unlock()
	own := k.ofLocked(network)
	open, shy := own.chances()
	unheard := map[uint16]float64{} // the chance that all tries so far were lost
	for _, port := range k.ports {
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
		port := slices.MaxFunc(k.ports, func(a, b uint16) int { return cmp.Compare(answers(a, lost), answers(b, lost)) })
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

// paid takes in that a device answered at a port, behind so many probes in vain. One that answers the first is open, as far as is known.
func (k *tcpOrder) paid(network netip.Prefix, port uint16, behind int) {
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
func (k *tcpOrder) inVain(network netip.Prefix, plan []uint16) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.ofLocked(network).vain += min(1, float64(len(plan))/float64(len(k.ports))) // a short one has learned little
}
