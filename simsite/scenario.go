// Package simsite is the simulated building: Ethernet segments in user space, on which each device is a TCP/IP stack
// of its own with its own MAC and its own services. Any program that speaks to it speaks the real protocols.
package simsite

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"maps"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"time"

	"airdrift/api"
	"airdrift/core/finding"
	"airdrift/core/hwaddr"
	"airdrift/core/netrange"
	"airdrift/core/yamlfile"
)

// Scenario describes a building; docs/scenario.md documents the format.
type Scenario struct {
	Name     string    `yaml:"name"`
	Seed     uint64    `yaml:"seed"`     // of latency, jitter, loss and keys
	Register string    `yaml:"register"` // file name of the site's register, beside the scenario
	Prefixes []Prefix  `yaml:"prefixes"` // MAC prefixes of the invented makers
	Networks []Network `yaml:"networks"`
	Vantage  Vantage   `yaml:"vantage"`

	Credentials []Credential `yaml:"credentials"` // what the auditor was given

	Models  []Model  `yaml:"models"`
	Devices []Device `yaml:"devices"`
	Units   []Unit   `yaml:"units"`  // behind devices
	Visits  []Visit  `yaml:"visits"` // on days one after the other; none where the auditor comes once
	Wrong   []Wrong  `yaml:"wrong"`  // the truth: what is wrong besides what is of a model or a device
}

// Prefix gives a MAC prefix of 24, 28 or 36 bits to an invented maker.
type Prefix struct {
	Prefix string `yaml:"prefix"` // such as 9c:2f:0a or 9c:2f:0a:1/28
	Maker  string `yaml:"maker"`
}

// Network is one segment with one subnet.
type Network struct {
	Name       string       `yaml:"name"`
	Subnet     netip.Prefix `yaml:"subnet"`
	Subnet6    netip.Prefix `yaml:"subnet6"` // its IPv6 subnet; none where it is left out
	Gateway    netip.Addr   `yaml:"gateway"`
	Purpose    string       `yaml:"purpose"` // what it is for; left out where nobody has said
	Pool       string       `yaml:"pool"`    // the addresses that its DHCP server gives out; left out where nobody has said
	Conditions `yaml:",inline"`
}

// Vantage is where the auditor plugs in.
type Vantage struct {
	Network     string       `yaml:"network"`
	Address     netip.Addr   `yaml:"address"`
	Address6    netip.Addr   `yaml:"address6"`
	MAC         hwaddr.MAC   `yaml:"mac"`
	NameServers []netip.Addr `yaml:"nameServers"` // of the site
}

// Credential is a community that agents of the building answer to.
type Credential struct {
	Name      string `yaml:"name"`
	Version   string `yaml:"version"`
	Community string `yaml:"community"`
}

// Model is what devices of one make have in common.
type Model struct {
	Name     string    `yaml:"name"`
	Maker    string    `yaml:"maker"`
	Kind     string    `yaml:"kind"`
	Is       string    `yaml:"is"`       // the model's name, where the device tells it
	Firmware string    `yaml:"firmware"` // where the device tells it
	Services []Service `yaml:"services"`
	Wrong    []string  `yaml:"wrong"` // the truth: what is wrong of each, as a rule and what it is about
}

// Device is one device of the building.
type Device struct {
	Name     string    `yaml:"name"`
	Model    string    `yaml:"model"`
	Legs     []Leg     `yaml:"legs"`     // where it is plugged in; the first one has the default route
	Standing string    `yaml:"standing"` // the truth: managed, unmanaged or missing
	Forwards bool      `yaml:"forwards"` // it is a router
	Off      bool      `yaml:"off"`      // it is not switched on
	Faults   []string  `yaml:"faults"`   // see FaultDropsEcho and the other names
	Services []Service `yaml:"services"` // besides those of its model
	Hostname string    `yaml:"hostname"` // what the building's name servers call it
	Firmware string    `yaml:"firmware"` // where it differs from its model's
	Called   string    `yaml:"called"`   // what it says its name is; the name where it is left out
	Wrong    []string  `yaml:"wrong"`    // the truth: what is wrong of it besides what is of its model

	Conditions `yaml:",inline"` // of its own cable, besides those of its networks
	AnswersFor string           `yaml:"answersFor"` // a range of addresses for which it answers ARP requests
	Announces  time.Duration    `yaml:"announces"`  // how often it asks by ARP for the first address of its subnet
}

// Leg is one interface of a device.
type Leg struct {
	Network    string       `yaml:"network"`
	Address    netip.Addr   `yaml:"address"`    // IPv4; a leg with address6 may do without
	Address6   netip.Addr   `yaml:"address6"`   // IPv6; the address of the segment comes with it
	LinkLocal6 bool         `yaml:"linkLocal6"` // it has the IPv6 address of the segment alone
	Subnet     netip.Prefix `yaml:"subnet"`     // of a device that was set up for another network than it is on
	MAC        hwaddr.MAC   `yaml:"mac"`
}

// prefixes gives the addresses of a leg on its network with the lengths of their subnets.
func (l Leg) prefixes(n Network) []netip.Prefix {
	var all []netip.Prefix
	subnet := n.Subnet
	if l.Subnet.IsValid() {
		subnet = l.Subnet
	}
	if l.Address.IsValid() {
		all = append(all, netip.PrefixFrom(l.Address, subnet.Bits()))
	}
	if l.Address6.IsValid() {
		all = append(all, netip.PrefixFrom(l.Address6, n.Subnet6.Bits()))
	}
	if l.Address6.IsValid() || l.LinkLocal6 {
		all = append(all, linkLocal6(l.MAC))
	}
	return all
}

// The faults a device may have.
const (
	FaultDropsEcho    = "drops-echo"    // it never answers an echo request
	FaultDropsRefusal = "drops-refusal" // an attempt to connect to a port with no service is not answered
	FaultAcceptsAll   = "accepts-all"   // an attempt to connect is accepted at whatever port
)

var faults = []string{FaultDropsEcho, FaultDropsRefusal, FaultAcceptsAll}

// Service is one TCP service of a device.
type Service struct {
	Port   uint16 `yaml:"port"`
	Speaks string `yaml:"speaks"` // http, https, ssh, text, rtsp, rdp, sink, dns, or the hostile endless, drip, garbage
	Says   string `yaml:"says"`   // banner: the greeting, or the SSH identification
	Title  string `yaml:"title"`  // of the web page
	Server string `yaml:"server"` // the Server header of HTTP or RTSP
	Realm  string `yaml:"realm"`  // asks for a password under that name
	Name   string `yaml:"name"`   // the subject of the TLS certificate
	Moves  string `yaml:"moves"`  // the page that the start page sends on to

	// Tells is what else the protocol says; docs/scenario.md has the keys of each. {name}, {serial}, {host} and {number} stand for the
	// device's own.
	Tells map[string]string `yaml:"tells"`
}

// Load reads and checks a scenario. Where it fails the error is a *fault.List with lines and columns.
func Load(name string, data []byte) (*Scenario, error) {
	var s Scenario
	doc, err := yamlfile.Read(name, data, &s)
	if err != nil {
		return nil, err
	}
	c := checker{doc: doc, scenario: &s}
	c.check()
	if err := doc.Faults.Err(); err != nil {
		return nil, err
	}
	return &s, nil
}

// checker holds what has been met so far while a scenario is checked.
type checker struct {
	doc      *yamlfile.Document
	scenario *Scenario
	networks map[string]Network
	models   map[string]bool
	macs     map[hwaddr.MAC]string // to the path where it was met first
}

func (c *checker) check() {
	c.networks, c.models, c.macs = map[string]Network{}, map[string]bool{}, map[hwaddr.MAC]string{}
	if c.scenario.Name == "" {
		c.doc.Refuse("$.name", "a scenario needs a name")
	}
	for i, p := range c.scenario.Prefixes {
		c.checkPrefix(fmt.Sprintf("$.prefixes[%d]", i), p)
	}
	if len(c.scenario.Networks) == 0 {
		c.doc.Refuse("$.networks", "a scenario needs at least one network")
	}
	for i, n := range c.scenario.Networks {
		c.checkNetwork(fmt.Sprintf("$.networks[%d]", i), n)
	}
	v := c.scenario.Vantage
	c.checkLeg("$.vantage", Leg{Network: v.Network, Address: v.Address, Address6: v.Address6, MAC: v.MAC})
	for i, m := range c.scenario.Models {
		c.checkModel(fmt.Sprintf("$.models[%d]", i), m)
	}
	for i, d := range c.scenario.Devices {
		c.checkDevice(fmt.Sprintf("$.devices[%d]", i), d)
	}
	for i, u := range c.scenario.Units {
		c.checkUnit(fmt.Sprintf("$.units[%d]", i), u)
	}
	c.checkVisits()
	for i, w := range c.scenario.Wrong {
		c.checkWrong(fmt.Sprintf("$.wrong[%d]", i), w)
	}
}

var prefixForm = regexp.MustCompile(`^([0-9a-f]{2}:){2}[0-9a-f]{2}(/24|:[0-9a-f]/28|:[0-9a-f]{2}:[0-9a-f]/36)?$`)

func (c *checker) checkPrefix(path string, p Prefix) {
	if !prefixForm.MatchString(p.Prefix) {
		c.doc.Refuse(path+".prefix", "%q is not a MAC prefix such as 9c:2f:0a, 9c:2f:0a:1/28 or 9c:2f:0a:1b:2/36", p.Prefix)
	}
	if p.Maker == "" {
		c.doc.Refuse(path+".maker", "a prefix needs a maker")
	}
}

func (c *checker) checkNetwork(path string, n Network) {
	if _, twice := c.networks[n.Name]; twice || n.Name == "" {
		c.doc.Refuse(path+".name", "a network needs a name that no other has; this one is %q", n.Name)
	}
	c.networks[n.Name] = n
	if !n.Subnet.IsValid() || !n.Subnet.Addr().Is4() || n.Subnet.Masked() != n.Subnet {
		c.doc.Refuse(path+".subnet", "want an IPv4 subnet such as 10.40.1.0/24")
	}
	if n.Gateway.IsValid() && !n.Subnet.Contains(n.Gateway) {
		c.doc.Refuse(path+".gateway", "%s is not in %s", n.Gateway, n.Subnet)
	}
	if n.Subnet6.IsValid() && (!n.Subnet6.Addr().Is6() || n.Subnet6.Masked() != n.Subnet6) {
		c.doc.Refuse(path+".subnet6", "want an IPv6 subnet such as fd00:40:1::/64")
	}
	if n.Purpose != "" && !slices.Contains(finding.Uses, n.Purpose) {
		c.doc.Refuse(path+".purpose", "%q: want one of %v", n.Purpose, finding.Uses)
	}
	if n.Pool != "" {
		if _, err := netrange.Parse(n.Pool); err != nil {
			c.doc.Refuse(path+".pool", "%v", err)
		}
	}
	c.checkConditions(path, n.Conditions)
}

func (c *checker) checkModel(path string, m Model) {
	if m.Name == "" || c.models[m.Name] {
		c.doc.Refuse(path+".name", "a model needs a name that no other has; this one is %q", m.Name)
	}
	c.models[m.Name] = true
	c.checkServices(path, m.Services)
}

func (c *checker) checkDevice(path string, d Device) {
	if d.Model != "" && !c.models[d.Model] {
		c.doc.Refuse(path+".model", "there is no model %q", d.Model)
	}
	switch d.Standing {
	case "managed", "unmanaged", "missing":
	default:
		c.doc.Refuse(path+".standing", "%q is not a standing: want managed, unmanaged or missing", d.Standing)
	}
	if len(d.Legs) == 0 {
		c.doc.Refuse(path+".legs", "a device is plugged in somewhere: give at least one leg")
	}
	for i, leg := range d.Legs {
		c.checkLeg(fmt.Sprintf("%s.legs[%d]", path, i), leg)
	}
	for i, f := range d.Faults {
		if !slices.Contains(faults, f) {
			c.doc.Refuse(fmt.Sprintf("%s.faults[%d]", path, i), "%q is not a fault: want one of %s", f, strings.Join(faults, ", "))
		}
	}
	c.checkServices(path, d.Services)
	c.checkConditions(path, d.Conditions)
	if _, err := netrange.Parse(d.AnswersFor); d.AnswersFor != "" && err != nil {
		c.doc.Refuse(path+".answersFor", "%v", err)
	}
	if d.Announces < 0 || d.Announces > 0 && d.Announces < 100*time.Millisecond {
		c.doc.Refuse(path+".announces", "a device announces itself every 100ms at the most often")
	}
}

func (c *checker) checkConditions(path string, cond Conditions) {
	if cond.Loss < 0 || cond.Loss >= 1 {
		c.doc.Refuse(path+".loss", "%g is not a share of frames lost: want 0 or more and less than 1", cond.Loss)
	}
	if cond.Latency < 0 || cond.Latency > time.Minute || cond.Jitter < 0 || cond.Jitter > time.Minute {
		c.doc.Refuse(path+".latency", "latency and jitter are from 0 to 1m")
	}
}

func (c *checker) checkLeg(path string, leg Leg) {
	n, known := c.networks[leg.Network]
	subnet := n.Subnet
	if leg.Subnet.IsValid() {
		subnet = leg.Subnet
	}
	switch {
	case !known:
		c.doc.Refuse(path+".network", "there is no network %q", leg.Network)
	case !leg.Address.IsValid() && !leg.Address6.IsValid():
		c.doc.Refuse(path+".address", "a leg has an address, an address6 or both")
	case leg.Address.IsValid() && !subnet.Contains(leg.Address):
		c.doc.Refuse(path+".address", "%s is not in %s, the subnet of %s", leg.Address, subnet, leg.Network)
	case leg.Address6.IsValid() && !n.Subnet6.Contains(leg.Address6):
		c.doc.Refuse(path+".address6", "%s is not in %s, the IPv6 subnet of %s", leg.Address6, n.Subnet6, leg.Network)
	}
	switch first, twice := c.macs[leg.MAC]; {
	case leg.MAC.IsZero() || leg.MAC.IsGroup():
		c.doc.Refuse(path+".mac", "want the MAC address of one device, not %q", leg.MAC)
	case twice:
		c.doc.Refuse(path+".mac", "%s is the MAC address of %s already", leg.MAC, first)
	default:
		c.macs[leg.MAC] = path[2:]
	}
}

func (c *checker) checkServices(path string, services []Service) {
	for i, s := range services {
		at := fmt.Sprintf("%s.services[%d]", path, i)
		if s.Port == 0 && !slices.Contains(portless, s.Speaks) {
			c.doc.Refuse(at+".port", "want a port from 1 to 65535")
		}
		if _, byDatagram := datagramSpeakers[s.Speaks]; speakers[s.Speaks] == nil && !byDatagram && s.Speaks != speaksDNS && !slices.Contains(portless, s.Speaks) {
			known := slices.Concat(slices.Sorted(maps.Keys(speakers)), slices.Sorted(maps.Keys(datagramSpeakers)), []string{speaksDNS}, portless)
			c.doc.Refuse(at+".speaks", "%q is not a way to speak: want one of %s", s.Speaks, strings.Join(known, ", "))
		}
	}
}

// model gives the model of that name; the zero Model where there is none.
func (s *Scenario) model(name string) Model {
	for _, m := range s.Models {
		if m.Name == name {
			return m
		}
	}
	return Model{}
}

// Services gives all services of a device: its model's and its own. One that it has of its own as well, at the same port, tells what its own tells and,
// where that is silent, what its model's does.
func (s *Scenario) Services(d Device) []Service {
	all := slices.Clone(s.model(d.Model).Services)
	for _, own := range d.Services {
		same := slices.IndexFunc(all, func(m Service) bool { return m.Port == own.Port && m.Speaks == own.Speaks })
		if same < 0 {
			all = append(all, own)
			continue
		}
		tells := maps.Clone(all[same].Tells)
		maps.Copy(tells, own.Tells)
		all[same].Tells = tells
	}
	for i := range all {
		all[i] = s.withUnits(s.fill(all[i], d), d)
	}
	return all
}

// bacnetNumbers is how many numbers there are for devices of BACnet (ASHRAE 135, 12.11.1).
const bacnetNumbers = 1<<22 - 1

// firstExtension is the lowest extension of a telephone that has one of its own, of so many.
const firstExtension, extensions = 200, 700

// fill puts the device's own name, serial number, host and number into what a service tells.
func (s *Scenario) fill(service Service, d Device) Service {
	secret := deviceSecret(s.Seed, d.Name)
	name := cmp.Or(d.Called, d.Name)
	host := strings.ReplaceAll(name, " ", "-")
	own := strings.NewReplacer("{name}", name, "{serial}", fmt.Sprintf("%X", secret[:4]), "{host}", host, "{number}", fmt.Sprint(binary.BigEndian.Uint32(secret[4:])%bacnetNumbers), "{extension}", fmt.Sprint(firstExtension+binary.BigEndian.Uint32(secret[8:])%extensions), "{firmware}", cmp.Or(d.Firmware, s.model(d.Model).Firmware))
	tells := make(map[string]string, len(service.Tells))
	for key, text := range service.Tells {
		tells[key] = own.Replace(text)
	}
	service.Tells = tells
	return service
}

// network gives the network of that name, which Load has found to be there.
func (s *Scenario) network(name string) Network {
	for _, n := range s.Networks {
		if n.Name == name {
			return n
		}
	}
	return Network{}
}

// Subnets gives the subnets of all networks, those of IPv6 last.
func (s *Scenario) Subnets() []netip.Prefix {
	var four, six []netip.Prefix
	for _, n := range s.Networks {
		four = append(four, n.Subnet)
		if n.Subnet6.IsValid() {
			six = append(six, n.Subnet6)
		}
	}
	return append(four, six...)
}

// Ranges gives the addresses that a sweep of the whole building looks through one by one: those of IPv4. Who has IPv6 is
// found by calling all nodes of the segment.
func (s *Scenario) Ranges() netrange.Set {
	var four []netip.Prefix
	for _, n := range s.Networks {
		four = append(four, n.Subnet)
	}
	return netrange.FromPrefixes(four...)
}

// NewCredentials gives what the auditor was given to be let in by agents.
func (s *Scenario) NewCredentials() []api.NewCredential {
	var all []api.NewCredential
	for _, c := range s.Credentials {
		all = append(all, api.NewCredential{Name: c.Name, Version: c.Version, Community: c.Community})
	}
	return all
}

// NewSite describes the building as a site to be entered into a service.
func (s *Scenario) NewSite() api.NewSite {
	site := api.NewSite{Name: s.Name}
	for _, n := range s.Networks {
		network := api.Network{Name: n.Name, Subnet: n.Subnet.String(), Purpose: n.Purpose, Pool: n.Pool}
		if n.Gateway.IsValid() {
			network.Gateway = n.Gateway.String()
		}
		site.Networks = append(site.Networks, network)
		if n.Subnet6.IsValid() {
			site.Networks = append(site.Networks, api.Network{Name: n.Name, Subnet: n.Subnet6.String(), Purpose: n.Purpose})
		}
	}
	for _, server := range s.Vantage.NameServers {
		site.NameServers = append(site.NameServers, server.String())
	}
	for _, p := range s.Prefixes {
		site.Prefixes = append(site.Prefixes, api.MACPrefix{Prefix: p.Prefix, Maker: p.Maker})
	}
	return site
}
