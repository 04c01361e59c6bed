package probe

import "slices"

// telling are the ports that tell most of what a device is, of services that no protocol here speaks to: management, printing,
// files, data and building protocols (IANA Service Name and Transport Protocol Port Number Registry).
var telling = []uint16{
	139,   // netbios-ssn
	515,   // printer
	548,   // afp
	2049,  // nfs
	3306,  // mysql
	5432,  // postgresql
	10001, // commonly a serial port
	20000, // dnp
}

// usual are the TCP ports that devices of buildings, offices and server rooms commonly offer besides the telling
// ones (IANA Service Name and Transport Protocol Port Number Registry, and common practice).
var usual = []uint16{
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

// clientFirst are ports whose services wait for the client, so that there is no greeting to wait for, until a protocol here speaks
// to them (IANA Service Name and Transport Protocol Port Number Registry).
var clientFirst = []uint16{135, 139, 515, 636, 2049, 2404, 5061, 9100, 20000, 47808}

// TellingPorts gives the ports that tell most of what a device is, in ascending order.
func TellingPorts() []uint16 {
	return collect(telling, func(p *Protocol) []uint16 { return p.Telling })
}

// UsualPorts gives the telling ports and those that are commonly open besides, in ascending order.
func UsualPorts() []uint16 {
	return collect(slices.Concat(telling, usual), func(p *Protocol) []uint16 { return slices.Concat(p.Telling, p.Ports) })
}

// collect puts the ports of all protocols to a list.
func collect(ports []uint16, of func(*Protocol) []uint16) []uint16 {
	ports = slices.Clone(ports)
	for _, p := range protocols {
		ports = append(ports, of(p)...)
	}
	slices.Sort(ports)
	return slices.Compact(ports)
}
