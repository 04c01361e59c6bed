package sweep

import (
	"context"
	"net/netip"
	"time"

	"golang.org/x/sync/errgroup"

	"airdrift/core/probe"
)

// oneSYN is how long a connection can be waited for before systems send a second request for it (RFC 6298, 2.1).
const oneSYN = 990 * time.Millisecond

// callTCP probes ports of one address, the likeliest in its network first, until one answers or hardly any device can be there. What
// answers late, while the next port is tried, counts too. The first is the likeliest: it is waited for the longest, so that the system
// asks there once more, and one lost packet hides nobody. echoes is how many requests the address was sent before.
func (c *caller) callTCP(ctx context.Context, a netip.Addr, pace *pacing, echoes int) error {
	if len(c.tcp.ports) == 0 {
		return nil
	}
	network, loss := c.timers.networkOf(a), pace.pace.loss()
	most := maxPackets - echoes
	if tries := pace.pace.tries(pace.Rounds, maxRounds); tries > pace.Rounds { // so much gets lost that this would miss somebody
		most = tries * len(c.tcp.ports)
	}
	plan := c.tcp.plan(network, most, loss, echoes == 0)
	alone, met := context.WithCancel(ctx)
	defer met()
	var tries errgroup.Group
	for i, port := range plan {
		if c.over(a) || alone.Err() != nil {
			break
		}
		// Where answers take longer than a second, as on a slow line or a busy machine, each is waited for as long as they do: that costs
		// packets that systems send again meanwhile, and what answers at one port alone is not missed.
		patience := patience{wait: max(oneSYN, c.timers.wait(a))}
		if i == 0 {
			patience.wait = c.timers.last(c.timers.wait(a))
		}
		patience.due = max(min(c.timers.wait(a), oneSYN), patience.wait/time.Duration(pace.PerDevice))
		if i == len(plan)-1 {
			patience.due = patience.wait
		}
		next, goOn := context.WithCancel(alone)
		if patience.due < patience.wait {
			patience.overdue = goOn
		}
		tries.Go(func() error {
			defer goOn()
			found, err := c.probeTCP(alone, netip.AddrPortFrom(a, port), patience)
			if found {
				c.tcp.paid(network, port, i)
				met()
			}
			if alone.Err() != nil && ctx.Err() == nil && !isFatal(err) {
				return nil // given up, as somebody has answered
			}
			return err
		})
		<-next.Done()
	}
	if c.over(a) {
		met()
	}
	if err := tries.Wait(); err != nil {
		return err
	}
	if !c.over(a) {
		c.tcp.inVain(network, plan)
	}
	return nil
}

func (c *caller) probeTCP(ctx context.Context, addr netip.AddrPort, patience patience) (found bool, err error) {
	outcome, rtt, err := c.touch(ctx, addr, patience, calling)
	if err != nil || outcome != probe.Open && outcome != probe.Refused {
		return false, err
	}
	c.timers.measured(addr.Addr(), rtt)
	c.noted(c.routed(ctx, addr.Addr(), tcpItem(addr.Port(), outcome, rtt)))
	return true, nil
}
