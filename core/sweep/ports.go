package sweep

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// The port sets with a name, from the quickest on.
const (
	PortsTelling = "telling"
	PortsUsual   = "usual"
	PortsAll     = "all"
)

// PortSets are the names of the port sets.
var PortSets = []string{PortsTelling, PortsUsual, PortsAll}

// usualPorts are the TCP ports that devices of buildings, offices and server rooms commonly offer besides the telling
// ones (IANA Service Name and Transport Protocol Port Number Registry, and common practice).
var usualPorts = []uint16{
	7, 9, 13, 17, 19, 26, 37, 49, 81, 82, 83, 84, 85, 88, 111, 113, 119, 135, 144, 179, 199, 222, 389, 427, 444,
	464, 465, 512, 513, 514, 543, 555, 587, 593, 623, 636, 843, 873, 888, 902, 990, 992, 993, 995, 1024, 1025,
	1026, 1027, 1080, 1194, 1311, 1433, 1434, 1521, 1720, 1723, 1884, 1900, 1911, 1935, 1962, 2000, 2001, 2082,
	2083, 2121, 2222, 2323, 2375, 2376, 2404, 2455, 2869, 3001, 3128, 3260, 3268, 3671, 3689, 3702, 4000, 4433,
	4443, 4444, 4500, 4786, 4848, 4899, 4911, 5001, 5002, 5009, 5050, 5051, 5061, 5222, 5269, 5357, 5400, 5555,
	5601, 5666, 5672, 5683, 5800, 5901, 5985, 5986, 6000, 6001, 6379, 6443, 7000, 7001, 7070, 7080, 7443, 7547,
	8001, 8002, 8009, 8010, 8060, 8082, 8086, 8088, 8090, 8100, 8200, 8291, 8333, 8500, 8728, 8843, 8880, 8888,
	8899, 9000, 9001, 9002, 9080, 9090, 9091, 9101, 9102, 9200, 9443, 9600, 9999, 10000, 10080, 11211, 16992,
	18245, 19999, 27017, 30718, 34962, 47808, 49152, 50000, 62078,
}

// UsualPorts gives the telling ports and those that are commonly open besides, in ascending order.
func UsualPorts() []uint16 {
	all := slices.Concat(TellingPorts, usualPorts)
	slices.Sort(all)
	return slices.Compact(all)
}

// ParsePorts reads the name of a port set, or a list of ports and from-to pairs such as "22, 80, 8000-8100".
func ParsePorts(text string) ([]uint16, error) {
	switch strings.TrimSpace(text) {
	case "", PortsTelling:
		return TellingPorts, nil
	case PortsUsual:
		return UsualPorts(), nil
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
