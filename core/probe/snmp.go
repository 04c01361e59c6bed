package probe

import (
	"context"
	"encoding/asn1"
	"encoding/binary"
	"encoding/hex"
	"maps"
	"math/rand/v2"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"time"

	"github.com/gosnmp/gosnmp"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/secret"
)

// Keys of the facts.
const (
	keySNMPVersion    = "snmp.version"
	keySNMPDefault    = "snmp.default"
	keySNMPEngine     = "snmp.engine"
	keySNMPLocation   = "snmp.sysLocation"
	keySNMPContact    = "snmp.sysContact"
	keySNMPUptime     = "snmp.sysUpTime"
	keySNMPEngineMAC  = "snmp.engine-mac"
	keySNMPAddress    = "snmp.address"
	keySNMPForwarding = "snmp.forwarding"
	keySNMPMaker      = "snmp.maker"
	keySNMPModel      = "snmp.model"
	keySNMPFirmware   = "snmp.firmware"
	keySNMPHardware   = "snmp.hardware"
	keySNMPSoftware   = "snmp.software"
	keySNMPDevice     = "snmp.device"
	keySNMPOS         = "snmp.os"
)

var _ = register(Protocol{
	Name: "snmp", Source: evidence.SourceSNMP, Cost: Middling,
	Port: evidence.UDP(snmpPort), Ask: askSNMP, Parts: []string{DefaultCommunityPart},
	Facts: []evidence.Fact{
		{Key: keySNMPVersion, Says: "a version that its agent speaks", Standard: "RFC 3411", Example: "3"},
		{Key: evidence.KeySNMPCredential, Says: "name of the site's credential that it took", Example: "garden read"},
		{Key: keySNMPDefault, Says: "the default community, which lets anybody read", Example: "public"},
		{Key: keySNMPEngine, Says: "engine identifier, told to anybody", Standard: "RFC 3411, 5; RFC 3414, 4", Example: "80001f8880ae94ef14", Use: evidence.Identifier},
		{Key: evidence.KeySNMPEngineFrom, Says: "enterprise number within it", Standard: "RFC 3411, 5", Example: "8072"},
		{Key: evidence.KeySNMPDescr, Says: "description of the system", Standard: "RFC 3418", Example: "Linux acorn 6.1.0 …", Names: 12, Describes: true},
		{Key: evidence.KeySNMPObject, Says: "what the maker has registered the system as", Standard: "RFC 3418", Example: "1.3.6.1.4.1.8072.3.2.10"},
		{Key: evidence.KeySNMPEnterprise, Says: "enterprise number within it", Standard: "RFC 2578", Example: "8072"},
		{Key: evidence.KeySNMPName, Says: "name that its keeper has entered", Standard: "RFC 3418", Example: "acorn", By: evidence.TheHost},
		{Key: keySNMPLocation, Says: "place that its keeper has entered", Standard: "RFC 3418", Example: "Palm house"},
		{Key: keySNMPContact, Says: "whom its keeper has entered", Standard: "RFC 3418", Example: "the gardeners"},
		{Key: evidence.KeySNMPServices, Says: "the layers it serves, as a sum", Standard: "RFC 3418", Example: "72"},
		{Key: keySNMPUptime, Says: "time since its agent started", Standard: "RFC 3418", Example: "24h0m0s", Passing: true},
		{Key: keySNMPEngineMAC, Says: "the MAC address within the engine identifier", Standard: "RFC 3411, 5", Example: "48:9b:34:00:00:01", Use: evidence.HardwareAddress},
		{Key: keySNMPAddress, Says: "an IPv4 address of its own", Standard: "RFC 4293, ipAdEntAddr", Example: "10.40.1.1", Use: evidence.OwnAddress},
		{Key: keySNMPForwarding, Says: "`yes` where it forwards packets", Standard: "RFC 4293, ipForwarding", Example: "yes"},
		{Key: evidence.KeySNMPMIB, Says: "a module that is there: printer, ups, bridge, host, entity, power-ethernet, cable-modem, wireless", Standard: "RFC 3805, 1628, 4188, 2790, 6933, 3621, 4639, IEEE 802.11", Example: "printer"},
		{Key: evidence.KeySNMPInterface, Says: "a row of its interfaces, as JSON", Standard: "RFC 2863", Example: `{"index":1,"name":"p1","speed":1000000000,"up":true}`},
		{Key: evidence.KeySNMPPart, Says: "a row of its physical parts, as JSON", Standard: "RFC 6933", Example: `{"class":"chassis","model":"Weave 24"}`},
		{Key: keySNMPMaker, Says: "maker of the chassis, power supply or printer", Standard: "RFC 6933, 1628, 3805", Example: "Marrowby"},
		{Key: keySNMPModel, Says: "its model", Standard: "RFC 6933, 1628, 3805", Example: "Weave 24", Names: 9, Describes: true},
		{Key: evidence.KeySNMPSerial, Says: "its serial number", Standard: "RFC 6933, 1628, 3805", Example: "MB-24117"},
		{Key: keySNMPFirmware, Says: "its firmware", Standard: "RFC 6933, 1628, 3805", Example: "3.1.4"},
		{Key: keySNMPHardware, Says: "its hardware revision", Standard: "RFC 6933, 1628, 3805", Example: "B"},
		{Key: keySNMPSoftware, Says: "its software", Standard: "RFC 6933, 1628, 3805", Example: "3.1.4-2"},
		{Key: keySNMPDevice, Says: "a device in its table of devices, behind its type, or the printer's own name", Standard: "RFC 2790, 3805", Example: "printer Inkwell 220", Names: 11, Describes: true},
		{Key: keySNMPOS, Says: "the operating system in its table of what runs", Standard: "RFC 2790, hrSWOSIndex", Example: "Linux"},
		{Key: evidence.KeySNMPBounded, Says: "it was not read to its end: `rows`, `loop`, `time or size`", Example: "loop"},
	},
})

var authProtocols = map[string]gosnmp.SnmpV3AuthProtocol{
	"MD5": gosnmp.MD5, "SHA": gosnmp.SHA, "SHA-224": gosnmp.SHA224, "SHA-256": gosnmp.SHA256, "SHA-384": gosnmp.SHA384, "SHA-512": gosnmp.SHA512,
}

var privProtocols = map[string]gosnmp.SnmpV3PrivProtocol{
	"DES": gosnmp.DES, "AES": gosnmp.AES, "AES-192": gosnmp.AES192, "AES-256": gosnmp.AES256,
}

// AuthProtocols and PrivProtocols are the names of the protocols of version 3 (RFC 3414, RFC 7860, RFC 3826).
var (
	AuthProtocols = slices.Sorted(maps.Keys(authProtocols))
	PrivProtocols = slices.Sorted(maps.Keys(privProtocols))
)

const (
	snmpPort = 161
	// maxCredentials is how many of a site's credentials one device is asked with: agents may lock out whoever tries more.
	maxCredentials = 8
	// snmpTime bounds all that is read of one device.
	snmpTime = 25 * time.Second
	// maxRows is how many rows of one table are read, maxVariables how many values of one device.
	maxRows      = 512
	maxVariables = 6000
	// maxParts is how many parts of a device are kept.
	maxParts = 64
	// DefaultCommunity is the one that agents come with from the factory. One that answers to it lets anybody read.
	DefaultCommunity = "public"
)

// defaultCredentials are tried before a site's own: an agent that answers to them stands open.
var defaultCredentials = []Credential{
	{Name: DefaultCommunity, Version: SNMPv2c, Community: secret.New(DefaultCommunity)},
	{Name: DefaultCommunity, Version: SNMPv1, Community: secret.New(DefaultCommunity)},
}

// DefaultCommunityPart is the part of the protocol that asks with the default community.
const DefaultCommunityPart = "default-community"

// askSNMP asks a device's agent what it is: which engine it has, whether it answers to the default community, and with
// the first credential that it takes what its system group, interfaces, parts and printer or power tables say.
func askSNMP(ctx context.Context, q Query) (items []evidence.Item, answered bool) {
	return askAgent(ctx, q.Dialer, q.Addr, q.Wait, func(ctx context.Context, a *agent) {
		if evidence.First(a.items, keySNMPEngine) != "" && q.isKnown(keySNMPEngine, evidence.First(a.items, keySNMPEngine)) {
			return // it has been asked all this at another of its addresses
		}
		if !q.off(DefaultCommunityPart) {
			a.tryDefaults(ctx)
		}
		a.trySites(ctx, q.Credentials, q.Preferred)
	})
}

// SNMPWith asks a device's agent with one credential and nothing else. answered is false where nothing came back.
func SNMPWith(ctx context.Context, d Dialer, addr netip.Addr, wait time.Duration, credential Credential) (items []evidence.Item, answered bool) {
	return askAgent(ctx, d, addr, wait, func(ctx context.Context, a *agent) {
		a.trySites(ctx, []Credential{credential}, credential.ID)
	})
}

// askAgent asks for the engine, opens a session in the given way, and reads all that it gives.
func askAgent(ctx context.Context, d Dialer, addr netip.Addr, wait time.Duration, open func(context.Context, *agent)) (items []evidence.Item, answered bool) {
	a := &agent{dialer: d, addr: netip.AddrPortFrom(addr, snmpPort), wait: wait, keeps: map[string]bool{}, found: found{port: evidence.UDP(snmpPort)}, began: time.Now()}
	err := a.discover(ctx)
	if refusesDatagrams(err) {
		return nil, false
	}
	open(ctx, a)
	if a.session != nil {
		a.discoverAgain(ctx)
		a.read()
		_ = a.session.Conn.Close() // all has been read
	}
	return a.items, len(a.items) > 0
}

// agent is one device's SNMP agent while it is asked.
type agent struct {
	found
	dialer  Dialer
	addr    netip.AddrPort
	wait    time.Duration
	three   bool            // it speaks version 3
	session *gosnmp.GoSNMP  // with the credential that it took
	bounded map[string]bool // what was cut short, told once each
	values  int             // read so far
	system  []gosnmp.SnmpPDU
	keeps   map[string]bool // the modules that are there, by their names
	began   time.Time
	turns   func() time.Duration // what was waited for turns by the session's connection
}

// spent reports whether as much time has gone by as one agent is given. Turns that were waited for are no time of its own.
func (a *agent) spent() bool {
	took := time.Since(a.began)
	if a.turns != nil {
		took -= a.turns()
	}
	return took > snmpTime
}

func (a *agent) note(key, value string) { a.add(evidence.SourceSNMP, key, []byte(value)) }

// v3Message is a message of version 3 whose data is not encrypted (RFC 3412, 6).
type v3Message struct {
	Version  int
	Global   v3Global
	Security []byte
	Data     asn1.RawValue
}

type v3Global struct {
	ID, MaxSize int
	Flags       []byte
	Model       int
}

// v3Security are the parameters of the user-based security model (RFC 3414, 2.4).
type v3Security struct {
	Engine       []byte
	Boots, Time  int
	User         []byte
	Auth, Secret []byte
}

// discovery makes the question to which every agent of version 3 answers with its engine, whoever asks (RFC 3414, 4).
func discovery(id int) ([]byte, error) {
	security, err := asn1.Marshal(v3Security{Engine: []byte{}, User: []byte{}, Auth: []byte{}, Secret: []byte{}})
	if err != nil {
		return nil, err
	}
	// A scoped PDU with an empty engine and context and a get request of nothing.
	scoped := []byte{0x30, 0x11, 0x04, 0, 0x04, 0, 0xa0, 0x0b, 0x02, 1, 1, 0x02, 1, 0, 0x02, 1, 0, 0x30, 0}
	return asn1.Marshal(v3Message{3, v3Global{id, 65507, []byte{4}, 3}, security, asn1.RawValue{FullBytes: scoped}})
}

// parseDiscovery gives the engine that an answer names.
func parseDiscovery(answer []byte, id int) (engine []byte, ok bool) {
	var message v3Message
	if _, err := asn1.Unmarshal(answer, &message); err != nil || message.Version != 3 || message.Global.ID != id {
		return nil, false
	}
	var security v3Security
	if _, err := asn1.Unmarshal(message.Security, &security); err != nil || len(security.Engine) < 5 || len(security.Engine) > 32 {
		return nil, false
	}
	return security.Engine, true
}

// discover finds out whether the agent speaks version 3.
func (a *agent) discover(ctx context.Context) error {
	id := int(rand.Int32N(1 << 30))
	question, err := discovery(id)
	if err != nil {
		return err
	}
	asked := time.Now()
	return exchange(ctx, a.dialer, a.addr, question, a.wait, func(answer []byte) verdict {
		engine, ok := parseDiscovery(answer, id)
		if !ok {
			return ignore
		}
		a.wait = max(a.wait, 2*time.Since(asked)) // an agent that is slow once is slow again
		a.three = true
		a.note(keySNMPVersion, SNMPv3)
		a.noteEngine(engine)
		return enough
	})
}

// discoverAgain asks an agent that answers, but has kept silent to version 3, for its engine once more, and again: that it does not speak
// version 3 is said of it, and on a network that loses packets two questions without an answer do not show it.
func (a *agent) discoverAgain(ctx context.Context) {
	const times = 2
	for range times {
		if a.three || a.spent() || a.discover(ctx) == nil {
			return
		}
	}
}

// noteEngine notes an engine's identifier, and the enterprise and MAC address that it is formed of (RFC 3411, 5).
func (a *agent) noteEngine(engine []byte) {
	a.note(keySNMPEngine, hex.EncodeToString(engine))
	if engine[0]&0x80 == 0 {
		return
	}
	a.note(evidence.KeySNMPEngineFrom, strconv.Itoa(int(binary.BigEndian.Uint32(engine)&0x7fffffff)))
	const byMAC = 3
	if len(engine) == 5+len(hwaddr.MAC{}) && engine[4] == byMAC {
		if mac := hwaddr.MAC(engine[5:]); !mac.IsZero() && !mac.IsGroup() {
			a.note(keySNMPEngineMAC, mac.String())
		}
	}
}

// tryDefaults tries what agents come with.
func (a *agent) tryDefaults(ctx context.Context) {
	for _, c := range defaultCredentials {
		if a.try(ctx, c) {
			a.note(keySNMPDefault, DefaultCommunity)
			a.note(keySNMPVersion, c.Version)
			return
		}
	}
}

// trySites tries a site's credentials, the one that worked before first. A session that is open already goes on where
// none is taken.
func (a *agent) trySites(ctx context.Context, credentials []Credential, preferred uint64) {
	order := slices.Clone(credentials)
	slices.SortStableFunc(order, func(x, y Credential) int {
		return rank(y.ID == preferred) - rank(x.ID == preferred)
	})
	for _, c := range order[:min(len(order), maxCredentials)] {
		if c.Version == SNMPv3 && !a.three {
			continue // it has not answered to version 3 at all
		}
		if a.session != nil && c.Version != SNMPv3 && c.Community.Reveal() == DefaultCommunity {
			continue // asked already
		}
		if a.try(ctx, c) {
			a.note(evidence.KeySNMPCredential, c.Name)
			a.note(keySNMPVersion, c.Version)
			return
		}
	}
}

func rank(yes bool) int {
	if yes {
		return 1
	}
	return 0
}

// try asks for the system group with one credential.
func (a *agent) try(ctx context.Context, c Credential) bool {
	session, err := a.open(ctx, c)
	if err != nil {
		return false
	}
	system, err := get(session, systemGroup)
	if err != nil || len(system) == 0 {
		_ = session.Conn.Close() // the agent has not taken it
		return false
	}
	if a.session != nil {
		_ = a.session.Conn.Close() // this one takes its place
	}
	a.session, a.system = session, system
	return true
}

// open prepares a session; nothing is sent before the first question. Version 3 asks for the engine once more, as the library
// keeps its own account of an engine's time.
func (a *agent) open(ctx context.Context, c Credential) (*gosnmp.GoSNMP, error) {
	session := &gosnmp.GoSNMP{
		Target: a.addr.Addr().WithZone("").String(), Port: a.addr.Port(), Context: ctx, Timeout: a.wait, Retries: datagramTries - 1, ExponentialTimeout: true, MaxRepetitions: 16,
		Version: versions[c.Version], Community: c.Community.Reveal(),
		// The library opens a socket of its own that sends nothing; the wire's takes its place.
		UseUnconnectedUDPSocket: true,
	}
	if c.Version == SNMPv3 {
		session.SecurityModel, session.MsgFlags = gosnmp.UserSecurityModel, gosnmp.NoAuthNoPriv
		usm := &gosnmp.UsmSecurityParameters{UserName: c.User, AuthenticationProtocol: gosnmp.NoAuth, PrivacyProtocol: gosnmp.NoPriv}
		if c.Auth != "" {
			session.MsgFlags = gosnmp.AuthNoPriv
			usm.AuthenticationProtocol, usm.AuthenticationPassphrase = authProtocols[c.Auth], c.AuthKey.Reveal()
		}
		if c.Priv != "" {
			session.MsgFlags = gosnmp.AuthPriv
			usm.PrivacyProtocol, usm.PrivacyPassphrase = privProtocols[c.Priv], c.PrivKey.Reveal()
		}
		session.SecurityParameters = usm
	}
	if err := session.Connect(); err != nil {
		return nil, err
	}
	_ = session.Conn.Close() // it was never used
	conn, err := a.dialer.Dial(ctx, "udp", a.addr, a.wait)
	if err != nil {
		return nil, err
	}
	a.began, a.turns = time.Now(), nil
	if paced, ok := conn.(interface{ Waited() time.Duration }); ok {
		a.turns = paced.Waited
	}
	session.Conn = struct{ net.Conn }{conn} // hides that it may be a packet socket, which the library would treat otherwise
	return session, nil
}

var versions = map[string]gosnmp.SnmpVersion{SNMPv1: gosnmp.Version1, SNMPv2c: gosnmp.Version2c, SNMPv3: gosnmp.Version3}
