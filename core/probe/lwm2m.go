package probe

import (
	"context"
	"math/rand/v2"
	"net/netip"
	"strconv"
	"strings"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keyLwM2MMaker    = "lwm2m.maker"
	keyLwM2MModel    = "lwm2m.model"
	keyLwM2MSerial   = "lwm2m.serial"
	keyLwM2MFirmware = "lwm2m.firmware"
)

// lwm2mFacts are part of CoAP: the device object of those that have one.
var lwm2mFacts = []evidence.Fact{
	{Key: keyLwM2MMaker, Says: "maker", Standard: "OMA LwM2M 1.1, E.4, resource 0", Example: "Emberline", Names: 13},
	{Key: keyLwM2MModel, Says: "model", Standard: "OMA LwM2M 1.1, E.4, resource 1", Example: "Ember 2", Describes: true},
	{Key: keyLwM2MSerial, Says: "serial number", Standard: "OMA LwM2M 1.1, E.4, resource 2", Example: "EM-20017"},
	{Key: keyLwM2MFirmware, Says: "version of its firmware", Standard: "OMA LwM2M 1.1, E.4, resource 3", Example: "1.4.2"},
}

// lwm2mKeys are the resources of the device object that are read, by their number.
var lwm2mKeys = []string{keyLwM2MMaker, keyLwM2MModel, keyLwM2MSerial, keyLwM2MFirmware}

// isLwM2M reports whether a list of resources is that of a device which is managed so (OMA LwM2M Core 1.1, 6.2.1, 6.4.1).
func isLwM2M(list string) bool {
	return strings.Contains(list, `oma.lwm2m`) || strings.Contains(list, "</3/0>") || strings.Contains(list, "</3/0/0>")
}

// askLwM2M reads what a device says of itself in its device object. One that keeps silent once is not asked for the rest.
func askLwM2M(ctx context.Context, q Query, to netip.AddrPort, f *found) {
	if q.off("lwm2m") {
		return
	}
	for resource, key := range lwm2mKeys {
		id, token := uint16(rand.Uint32()), rand.Uint32()
		question := coapRequest(coapConfirmable, id, token, []string{"3", "0", strconv.Itoa(resource)})
		err := exchange(ctx, q.Dialer, to, coapAccept(question, coapPlain), q.Wait, func(answer []byte) verdict {
			m, ok := coapAnswer(answer, id, token)
			if !ok {
				return ignore
			}
			if m.code == coapContent && m.format == coapPlain {
				f.add(evidence.SourceCoAP, key, m.payload)
			}
			return enough
		})
		if err != nil {
			return
		}
	}
}
