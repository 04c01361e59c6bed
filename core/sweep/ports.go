package sweep

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"airdrift/core/probe"
)

// The port sets with a name, from the quickest on.
const (
	PortsTelling = "telling"
	PortsUsual   = "usual"
	PortsAll     = "all"
)

// PortSets are the names of the port sets.
var PortSets = []string{PortsTelling, PortsUsual, PortsAll}

// ParsePorts reads the name of a port set, or a list of ports and from-to pairs such as "22, 80, 8000-8100".
func ParsePorts(text string) ([]uint16, error) {
	switch strings.TrimSpace(text) {
	case "", PortsTelling:
		return probe.TellingPorts(), nil
	case PortsUsual:
		return probe.UsualPorts(), nil
	case PortsAll:
		return portRange(1, 65535), nil
	}
	var ports []uint16
	for i, part := range strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' || r == ';' }) {
		more, err := parsePortPart(part)
		if err != nil {
			return nil, fmt.Errorf("port %d, %q: %w", i+1, part, err)
		}
		ports = append(ports, more...)
	}
	if len(ports) == 0 {
		return nil, fmt.Errorf("no port given: write %s, or a list such as 22, 80, 8000-8100", strings.Join(PortSets, ", "))
	}
	slices.Sort(ports)
	return slices.Compact(ports), nil
}

func parsePortPart(part string) ([]uint16, error) {
	left, right, pair := strings.Cut(part, "-")
	from, err := parsePort(left)
	if err != nil || !pair {
		return []uint16{from}, err
	}
	to, err := parsePort(right)
	if err != nil {
		return nil, err
	}
	if to < from {
		return nil, fmt.Errorf("ends (%d) before it starts (%d)", to, from)
	}
	return portRange(from, to), nil
}

func parsePort(text string) (uint16, error) {
	n, err := strconv.ParseUint(text, 10, 16)
	if err != nil || n == 0 {
		return 0, fmt.Errorf("%q is not a port from 1 to 65535, nor one of the sets %s", text, strings.Join(PortSets, ", "))
	}
	return uint16(n), nil
}

func portRange(from, to uint16) []uint16 {
	ports := make([]uint16, 0, int(to)-int(from)+1)
	for p := int(from); p <= int(to); p++ {
		ports = append(ports, uint16(p))
	}
	return ports
}
