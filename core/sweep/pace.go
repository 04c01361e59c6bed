package sweep

import (
	"fmt"
	"strings"
	"time"
)

// Pace is how hard a sweep pushes.
type Pace struct {
	Name       string
	Rate       float64 // questions a second, all together
	Devices    int     // devices asked at the same time
	PerDevice  int     // questions in flight to one device
	PerNetwork int     // questions in flight to one network
	Rounds     int     // times an address that keeps silent is called
}

// The paces with a name. Old controllers have small tables and slow processors: gentle never asks one thing more
// before the last is answered.
var (
	Gentle = Pace{Name: "gentle", Rate: 25, Devices: 8, PerDevice: 1, PerNetwork: 32, Rounds: 4}
	Steady = Pace{Name: "steady", Rate: 300, Devices: 24, PerDevice: 4, PerNetwork: 400, Rounds: 3}
	Brisk  = Pace{Name: "brisk", Rate: 3000, Devices: 64, PerDevice: 12, PerNetwork: 1500, Rounds: 3}
)

// Paces are the named paces, from the most careful on.
var Paces = []Pace{Gentle, Steady, Brisk}

// PaceNamed finds a pace by its name.
func PaceNamed(name string) (Pace, error) {
	names := make([]string, len(Paces))
	for i, p := range Paces {
		if p.Name == name {
			return p, nil
		}
		names[i] = p.Name
	}
	return Pace{}, fmt.Errorf("there is no pace %q: want one of %s", name, strings.Join(names, ", "))
}

// maxKnocking bounds the addresses knocked at together: each holds a socket of the system.
const maxKnocking = 2000

// knocking is at how many silent addresses a sweep knocks at the same time. Hardly any is a device, so what bounds them
// is the rate, and not the care for devices: a second's worth of questions is under way.
func (p Pace) knocking() int {
	together := max(p.Devices*p.PerDevice, int(p.Rate))
	return max(1, min(together, maxKnocking)/min(p.PerDevice, len(knockPorts)))
}

// The largest figures a pace may have. Beyond them a sweep would only lose what it sends.
const (
	maxRate    = 20000
	maxDevices = 1000
	maxFlight  = 256
	maxRounds  = 10
)

// Check reports figures that make no sense.
func (p Pace) Check() error {
	switch {
	case !(p.Rate > 0 && p.Rate <= maxRate):
		return fmt.Errorf("a pace needs a rate above 0 and up to %d questions a second, got %g", maxRate, p.Rate)
	case p.Devices < 1 || p.Devices > maxDevices:
		return fmt.Errorf("a pace asks from 1 to %d devices at the same time, got %d", maxDevices, p.Devices)
	case p.PerDevice < 1 || p.PerDevice > maxFlight:
		return fmt.Errorf("a pace has from 1 to %d questions in flight to one device, got %d", maxFlight, p.PerDevice)
	case p.PerNetwork < p.PerDevice:
		return fmt.Errorf("a pace lets at least as many questions be in flight to a network as to a device (%d), got %d", p.PerDevice, p.PerNetwork)
	case p.Rounds < 1 || p.Rounds > maxRounds:
		return fmt.Errorf("a pace calls silent addresses from 1 to %d times, got %d", maxRounds, p.Rounds)
	}
	return nil
}

// TellingPorts are the TCP ports that tell most of what a device is: management, printing, files, media, remote
// desktops and building protocols (IANA Service Name and Transport Protocol Port Number Registry).
var TellingPorts = []uint16{
	21,    // ftp
	22,    // ssh
	23,    // telnet
	25,    // smtp
	53,    // domain
	80,    // http
	102,   // iso-tsap
	110,   // pop3
	139,   // netbios-ssn
	143,   // imap
	389,   // ldap
	443,   // https
	445,   // microsoft-ds
	502,   // modbus
	515,   // printer
	548,   // afp
	554,   // rtsp
	631,   // ipp
	1883,  // mqtt
	2049,  // nfs
	3000,  // commonly a web page
	3306,  // mysql
	3389,  // remote desktop
	4840,  // opcua
	5000,  // commonly a web page
	5060,  // sip
	5432,  // postgresql
	5900,  // rfb
	8000,  // commonly a web page
	8008,  // http-alt
	8080,  // http-alt
	8081,  // commonly a web page
	8443,  // commonly a secure web page
	8554,  // rtsp-alt
	8883,  // secure-mqtt
	9100,  // printing, raw
	10001, // commonly a serial port
	20000, // dnp
	44818, // EtherNet/IP
}

// Time-outs are held within these bounds whatever the measured round trips say.
const (
	firstTimeout = time.Second            // before anything was measured (RFC 6298, 2.1)
	minTimeout   = 300 * time.Millisecond // small controllers answer late now and then
	maxTimeout   = 4 * time.Second
	// patience is the least that the last knock waits: one slow device among fast ones is far beyond what was measured.
	patience = 2 * time.Second
)
