package evidence

import (
	"fmt"
	"slices"
	"sync"
)

// Fact documents the facts of one key, and says what they are good for beside being read.
type Fact struct {
	Key      string // such as "snmp.sysDescr": a family, a dot, and a name
	Source   Source
	Says     string // what a fact of the key says, in words
	Standard string // where that is laid down; "" where nowhere is
	Example  string

	Names     int  // what the name of a maker in its words adds to the belief in that maker, in decibans; 0 where it is not looked for
	Describes bool // the device describes itself in words, and rules may name all such facts together
	By        Author
	Passing   bool // it is another at each visit of itself, as a clock is
	Use       Use
}

// Author is whose words a text is in, which decides how much it tells of the device.
type Author int

// The authors there are.
const (
	TheMaker  Author = iota // what a device says of itself as it was made
	TheKeeper               // what somebody has called it, or says that it is for; the maker's words where nobody has
	ThePage                 // a page that it serves: of itself, or of something else
	TheHost                 // a host name: the maker's until somebody gives it another
)

// Use is what a fact is good for besides telling what a device is.
type Use int

// The uses there are.
const (
	NoUse           Use = iota
	PublicKey           // of a device's own pair of keys: it recognises the device
	Identifier          // tells devices of one model apart and stays with the device
	HardwareAddress     // a MAC address of the device's own
	OwnAddress          // an IP address that the device's own tables give as its own
)

// catalogue holds the facts there are, in the order they were registered.
var catalogue struct {
	mu    sync.RWMutex // guards all below
	facts []Fact
	byKey map[string]Fact
}

// Register puts facts into the catalogue. It is called while packages are initialised, and panics where two of them claim one key
// or one is not documented: that is a fault of the program.
func Register(facts ...Fact) {
	catalogue.mu.Lock()
	defer catalogue.mu.Unlock()
	if catalogue.byKey == nil {
		catalogue.byKey = map[string]Fact{}
	}
	for _, f := range facts {
		if _, taken := catalogue.byKey[f.Key]; taken || f.Key == "" || f.Says == "" || f.Source == "" {
			panic(fmt.Sprintf("evidence: the key %q is registered twice, or without its source or what it says", f.Key))
		}
		catalogue.byKey[f.Key] = f
		catalogue.facts = append(catalogue.facts, f)
	}
}

// Catalogue gives the documented facts in the order they were registered. Those of protocols are there once package probe is
// part of the program.
func Catalogue() []Fact {
	catalogue.mu.RLock()
	defer catalogue.mu.RUnlock()
	return slices.Clone(catalogue.facts)
}

// FactOf gives what is documented of a key; ok is false for one that is not.
func FactOf(key string) (fact Fact, ok bool) {
	catalogue.mu.RLock()
	defer catalogue.mu.RUnlock()
	fact, ok = catalogue.byKey[key]
	return fact, ok
}

// factOf is FactOf for a key that is not a string yet.
func factOf(key []byte) (fact Fact, ok bool) {
	catalogue.mu.RLock()
	defer catalogue.mu.RUnlock()
	fact, ok = catalogue.byKey[string(key)]
	return fact, ok
}

// KeysFor gives the keys of the facts with a use, in the order they were registered.
func KeysFor(use Use) []string {
	var keys []string
	for _, f := range Catalogue() {
		if f.Use == use {
			keys = append(keys, f.Key)
		}
	}
	return keys
}

// The facts that no protocol of package probe gives: what the engine finds out by itself, and what is imported.
func init() {
	Register([]Fact{
		{Key: KeyMAC, Source: SourceARP, Says: "the MAC address that answered for the address", Standard: "RFC 826", Example: "48:9b:34:03:30:14", Use: HardwareAddress},
		{Key: KeyHeard, Source: SourceARP, Says: "the address, where its holder was heard on the segment and not asked", Standard: "RFC 826", Example: "192.168.77.10"},
		{Key: KeyVLAN, Source: SourceARP, Says: "the VLAN that it was heard in, where that is not the interface's own", Standard: "IEEE 802.1Q", Example: "20"},
		{Key: KeyNDMAC, Source: SourceND, Says: "the MAC address that answered or spoke for an IPv6 address", Standard: "RFC 4861", Example: "f4:bc:c2:12:f6:e0", Use: HardwareAddress},
		{Key: KeyNDRouter, Source: SourceND, Says: "`yes` where it calls itself a router", Standard: "RFC 4861, 4.2, 4.4", Example: "yes"},
		{Key: KeyEchoTTL, Source: SourceEcho, Says: "hops left when the echo answer arrived; 0 where the system does not tell", Standard: "RFC 792", Example: "63"},
		{Key: KeyTCPEvery, Source: SourceTCP, Says: "`yes` where connections to ports without a service are accepted too, so that an open port proves nothing", Standard: "RFC 6335, 6", Example: "yes"},
		{Key: KeyTCPOpen, Source: SourceTCP, Says: "a port that accepted a connection", Standard: "RFC 9293", Example: "9100"},
		{Key: KeyTCPRefused, Source: SourceTCP, Says: "a port that refused: the one by which the roll call found the device, or of a device at which nothing is open the lowest that was asked", Standard: "RFC 9293", Example: "22"},
		{Key: KeyTCPSilent, Source: SourceTCP, Says: "a port that neither accepted nor refused a connection, where the device refuses others: of at most 8 it is noted, as whether they are open is not known", Example: "80"},
		{Key: KeyTCPStopped, Source: SourceTCP, Says: "`yes` where it stopped answering while being asked, and was left alone from then on", Example: "yes"},
		{Key: KeyStack, Source: SourceStack, Says: "how it accepts a connection: the time to live it began with, `df` where it may not be cut up, the window, the options in their order; a hint only", Standard: "RFC 9293, 3.1; RFC 7323", Example: "ttl=64 df window=65160 options=mss,sack,ts,nop,ws10"},
		{Key: KeySelf, Source: SourceSelf, Says: "the host name of the auditor's own machine, which is not asked", Example: "laptop-7"},
		{Key: KeyICMP, Source: SourceICMP, Says: "that a question to it could not be delivered: why, and who said so", Standard: "RFC 792, RFC 1812, 5.2.7.1; RFC 4443, 3.1", Example: "administratively prohibited, says 10.40.0.1"},
		{Key: KeyLost, Source: SourceSweep, Says: "it answered before it was asked and not after: the question that was put last", Example: "ssh at tcp/22"},
		{Key: KeySame, Source: SourceSweep, Says: "the address at which the same device was asked already, by an identifier of its own and its own tables", Example: "10.40.1.1"},
		{Key: KeyPinned, Source: SourceSweep, Says: "where several hold its address: at which address this one was asked by itself, the system's neighbour entry being fixed to it, or else by IPv6", Example: "10.40.1.50"},
		{Key: KeyTimes, Source: SourceSweep, Says: "how long it took over its answers in one protocol: the protocol, how many answers, how many questions without one, and median, 95th percentile and longest in milliseconds", Example: "bacnet 12 1 4.2 31 210", Passing: true},
		{Key: KeyCut, Source: SourceSweep, Says: "the source of which more was said than is kept: of one sighting at most 2,048 facts of 256 KiB, of what it announces by itself 256 of 48 KiB", Example: "mdns"},
		{Key: KeyLeaseName, Source: SourceLease, Says: "name, in the imported list of the site's DHCP server", Standard: "RFC 2131", Example: "front-desk-phone", By: TheHost},
		{Key: KeyLeaseMAC, Source: SourceLease, Says: "MAC address, in that list", Standard: "RFC 2131", Example: "48:9b:34:00:00:01", Use: HardwareAddress},
		{Key: KeyLeaseUntil, Source: SourceLease, Says: "end of the lease, in that list", Standard: "RFC 2131", Example: "2034-05-01T12:00:00Z", Passing: true},
		{Key: KeyLeaseClient, Source: SourceLease, Says: "client's identifier, in that list", Standard: "RFC 2131", Example: "01489b34000001"},
	}...)
}
