package registry

import (
	_ "embed"
	"strings"
	"sync"

	"airdrift/core/evidence"
)

// servicesText has a line "tcp/80 TAB http" for each assigned port, from Debian's netbase 6.4, which follows the IANA
// Service Name and Transport Protocol Port Number Registry, and from that itself for what devices of buildings offer besides.
//
//go:embed data/services.tsv
var servicesText string

var services = sync.OnceValue(func() map[string]string {
	names := map[string]string{}
	for line := range strings.Lines(servicesText) {
		if port, name, ok := strings.Cut(strings.TrimSpace(line), "\t"); ok {
			names[port] = name
		}
	}
	return names
})

// ServiceName gives the registered name of a port's service, or "".
func ServiceName(p evidence.Port) string { return services()[p.String()] }
