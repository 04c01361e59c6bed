package probe

import (
	"context"
	"crypto/rand"
	"fmt"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"airdrift/core/evidence"
)

const wsdPort = 3702

// WSDGroups are where the devices of a segment are probed (OASIS WS-Discovery 1.1, 2.4).
var WSDGroups = []netip.AddrPort{netip.MustParseAddrPort("239.255.255.250:3702"), netip.MustParseAddrPort("[ff02::c]:3702")}

// WSDiscovery probes one device directly (OASIS WS-Discovery 1.1, 5.2).
func WSDiscovery(ctx context.Context, d Dialer, addr netip.Addr, wait time.Duration) ([]evidence.Item, bool) {
	f, to := byDatagram(d, addr, wsdPort)
	err := exchange(ctx, d, to, ProbeQuestion(), wait, func(answer []byte) verdict {
		if readMatches(answer, f) {
			return more
		}
		return ignore
	})
	return f.items, err == nil
}

// ProbeQuestion asks for everything that there is. The namespaces are those of the draft of April 2005, which devices of the
// profile and of the standard both understand.
func ProbeQuestion() []byte {
	var id [16]byte
	_, _ = rand.Read(id[:]) // never fails (crypto/rand)
	return fmt.Appendf(nil, `<?xml version="1.0" encoding="utf-8"?>`+
		`<e:Envelope xmlns:e="http://www.w3.org/2003/05/soap-envelope" xmlns:w="http://schemas.xmlsoap.org/ws/2004/08/addressing" xmlns:d="http://schemas.xmlsoap.org/ws/2005/04/discovery">`+
		`<e:Header><w:MessageID>uuid:%x-%x-%x-%x-%x</w:MessageID><w:To>urn:schemas-xmlsoap-org:ws:2005:04:discovery</w:To>`+
		`<w:Action>http://schemas.xmlsoap.org/ws/2005/04/discovery/Probe</w:Action></e:Header><e:Body><d:Probe/></e:Body></e:Envelope>`,
		id[:4], id[4:6], id[6:8], id[8:10], id[10:])
}

// HeardWSD reads what a device of the segment told, asked or not. ok is false where it is neither a match nor a greeting.
func HeardWSD(message []byte) (items []evidence.Item, ok bool) {
	f := &found{port: evidence.UDP(wsdPort)}
	ok = readMatches(message, f)
	return f.items, ok && len(f.items) > 0
}

// wsdKeys are the elements of a match that are kept; all but the address are lists separated by white space.
var wsdKeys = map[string]string{"Types": evidence.KeyWSDType, "Scopes": evidence.KeyWSDScope, "XAddrs": evidence.KeyWSDAddress}

// readMatches reads matches and greetings (ProbeMatch, ResolveMatch, Hello).
func readMatches(message []byte, f *found) bool {
	matched := false
	eachText(message, func(path []string, text string) {
		inside := slices.ContainsFunc(path, func(e string) bool { return e == "ProbeMatch" || e == "ResolveMatch" || e == "Hello" })
		if !inside {
			return
		}
		matched = true
		last := path[len(path)-1]
		if last == "Address" {
			f.addOnce(evidence.SourceWSD, evidence.KeyWSDID, []byte(text))
		}
		for i, word := range strings.Fields(text) {
			if wsdKeys[last] != "" && i < maxTargets {
				if plain, err := url.PathUnescape(word); err == nil {
					word = plain // scopes are URIs
				}
				f.addOnce(evidence.SourceWSD, wsdKeys[last], []byte(word))
			}
		}
	})
	return matched
}
