package probe

import (
	"context"
	"encoding/binary"
	"fmt"
	"net/netip"
	"net/url"
	"slices"

	"airdrift/core/evidence"
)

const (
	ippIdentify = 0x3c // the operation (PWG 5100.13, 5.1)
	ippName     = 0x42
	ippPort     = 631
)

// ippActions are what a printer can do to show itself, those first that disturb least (PWG 5100.13, 6.1.1).
var ippActions = []string{"flash", "display", "sound"}

// ippBlinks reports whether a printer has said that it can show itself.
func ippBlinks(known []evidence.Item) bool { return ippAction(known) != "" }

func ippAction(known []evidence.Item) string {
	can := evidence.Values(known, keyIPPIdentify)
	for _, action := range ippActions {
		if slices.Contains(can, action) {
			return action
		}
	}
	return ""
}

// ippBlink tells a printer to show itself (PWG 5100.13, 5.1). Nothing is printed.
func ippBlink(ctx context.Context, q Query, known []evidence.Item) error {
	f, to := byDatagram(q.Dialer, q.Addr, ippPort)
	page, path := startPage("http", to), ippPaths[0]
	for _, uri := range evidence.Values(known, keyIPPURI) { // of it the path alone is believed
		if u, err := url.Parse(uri); err == nil && u.Path != "" && len(u.EscapedPath()) <= maxPath {
			path = u.EscapedPath()
			break
		}
	}
	request := ippRequest(ippIdentify, "ipp://"+page.Host+path)
	request = ippAttribute(request, ippName, "requesting-user-name", "airdrift")
	request = append(ippAttribute(request, ippKeyword, "identify-actions", ippAction(known)), ippEnd)
	body, ok := postIPP(ctx, f, page, path, request)
	if !ok || len(body) < 4 {
		return fmt.Errorf("the printer at %s does not answer at %s", netip.AddrPortFrom(to.Addr(), to.Port()), path)
	}
	if status := binary.BigEndian.Uint16(body[2:]); status > 0xff { // RFC 8011, B.1: successful
		return fmt.Errorf("the printer refuses (status 0x%04x, RFC 8011, B.1)", status)
	}
	return nil
}
