package identify

import (
	"slices"
	"strings"

	"airdrift/core/evidence"
)

// Settle says what would likely tell what a device is, of which the evidence leaves the kind open: the questions that were not or could not be put, the
// most telling first. It is empty where nothing is left to be asked.
func Settle(items []evidence.Item) []string {
	has := func(hold func(it evidence.Item) bool) bool { return slices.ContainsFunc(items, hold) }
	begins := func(prefix string) bool {
		return has(func(it evidence.Item) bool { return strings.HasPrefix(it.Key, prefix) })
	}
	var ways []string
	if begins("snmp.engine") && !begins("snmp.sys") {
		ways = append(ways, "SNMP with a credential: its agent answers, and says nothing to who has none")
	}
	if len(macFacts(items)) == 0 {
		ways = append(ways, "a sweep from the device's own segment: its MAC address would tell the maker, and what it says to all there is heard")
	}
	if has(func(it evidence.Item) bool { return it.Key == evidence.KeyHTTPStatus && it.Value == "401" }) || begins("http.realm") {
		ways = append(ways, "its web page, with a password")
	}
	if !begins(evidence.KeyTCPOpen) {
		ways = append(ways, "a sweep that asks more ports: none of those that were tried is open")
	}
	return ways
}
