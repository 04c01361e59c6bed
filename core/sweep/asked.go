package sweep

import (
	"slices"

	"airdrift/core/probe"
)

// AskedOfAll gives the protocols by which a sweep of a pace puts a question to every device, but for those that are left out of it. Of a device that
// has answered by another, silence says that it does not speak them, or not with this vantage.
func AskedOfAll(p Pace, off []string) []*probe.Protocol {
	return slices.DeleteFunc(probe.Protocols(), func(each *probe.Protocol) bool {
		return each.Ask == nil || each.ByOthers || !p.lets(each.Cost) || slices.Contains(off, each.Name)
	})
}
