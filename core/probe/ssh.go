package probe

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"maps"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keySSHHostKey    = "ssh.hostkey"
	keySSHAlgorithms = "ssh.algorithms"
)

var _ = register(Protocol{
	Name: "ssh", Source: evidence.SourceSSH, Cost: Middling,
	Ports: []uint16{22, 2222}, Usual: []uint16{22}, Telling: []uint16{22}, RollCall: []uint16{22}, Talk: talkSSH,
	Facts: []evidence.Fact{
		{Key: evidence.KeySSHGreeting, Says: "identification string", Standard: "RFC 4253, 4.2", Example: "SSH-2.0-OpenSSH_9.2p1", Names: 9},
		{Key: keySSHHostKey, Says: "fingerprint of the host key; Ed25519 is asked for first", Standard: "RFC 4253, 8", Example: "SHA256:96mT…", Use: evidence.PublicKey},
		{Key: keySSHAlgorithms, Says: "what it offers: host keys, key exchange, ciphers", Standard: "RFC 4253, 7.1", Example: "host keys ssh-ed25519; key exchange …"},
	},
})

// errSeenKey ends the key exchange once the host key is known: nobody signs in.
var errSeenKey = errors.New("the host key is all that was wanted")

// hostKeyAlgorithms begins with what costs a small processor least. A device with several keys shows the same one each
// time, and some small servers fall over when a key is wanted of them that they do not have.
var hostKeyAlgorithms = []string{
	ssh.KeyAlgoED25519, ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA384, ssh.KeyAlgoECDSA521,
	ssh.KeyAlgoRSASHA256, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSA,
	//lint:ignore SA1019 old controllers have nothing else, and the key is only looked at
	ssh.InsecureKeyAlgoDSA,
}

// talkSSH reads the identification string (RFC 4253, 4.2), what algorithms are offered (7.1), and the host key, which
// recognises the device again at another address. Its other host keys are asked for by further connections, one each.
func talkSSH(ctx context.Context, conn net.Conn, addr netip.AddrPort, f *found) {
	record := &recorder{Conn: conn}
	shown := exchangeKeys(record, addr, hostKeyAlgorithms, f)
	f.add(evidence.SourceSSH, evidence.KeySSHGreeting, sshIdentification(record.first))
	offer, ok := sshOffer(record.first)
	if !ok {
		return
	}
	f.add(evidence.SourceSSH, keySSHAlgorithms, offer.text())
	if f.thorough && shown != "" {
		conn.Close() // so that a device never holds two of ours at once
		askOtherKeys(ctx, addr, offer.hostKeys, shown, f)
	}
}

// exchangeKeys goes on until the host key is known, notes it and gives its type.
func exchangeKeys(conn net.Conn, addr netip.AddrPort, algorithms []string, f *found) (shown string) {
	supported, insecure := ssh.SupportedAlgorithms(), ssh.InsecureAlgorithms()
	config := &ssh.ClientConfig{
		Config: ssh.Config{
			KeyExchanges: append(supported.KeyExchanges, insecure.KeyExchanges...),
			Ciphers:      append(supported.Ciphers, insecure.Ciphers...),
			MACs:         append(supported.MACs, insecure.MACs...),
		},
		HostKeyAlgorithms: algorithms,
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			shown = key.Type()
			f.addOnce(evidence.SourceSSH, keySSHHostKey, []byte(ssh.FingerprintSHA256(key)))
			return errSeenKey
		},
	}
	if client, _, _, err := ssh.NewClientConn(conn, addr.String(), config); err == nil {
		client.Close()
	}
	return shown
}

// keyTypes are the types of host key with the algorithms that show them.
var keyTypes = map[string][]string{
	ssh.KeyAlgoED25519: {ssh.KeyAlgoED25519}, ssh.KeyAlgoECDSA256: {ssh.KeyAlgoECDSA256},
	ssh.KeyAlgoRSA: {ssh.KeyAlgoRSASHA256, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSA},
}

// askOtherKeys asks for keys of the types that the device has offered and not shown.
func askOtherKeys(ctx context.Context, addr netip.AddrPort, offered []string, shown string, f *found) {
	for _, kind := range slices.Sorted(maps.Keys(keyTypes)) {
		has := slices.ContainsFunc(keyTypes[kind], func(a string) bool { return slices.Contains(offered, a) })
		if kind == shown || !has {
			continue
		}
		conn, err := f.dialer.Dial(ctx, "tcp", addr, greetingWait)
		if err != nil {
			return
		}
		_ = conn.SetDeadline(time.Now().Add(exchangeWait))
		exchangeKeys(conn, addr, keyTypes[kind], f)
		conn.Close()
	}
}

// offer is what a server proposes for the exchange of keys.
type offer struct{ exchanges, hostKeys, ciphers []string }

// sshOffer finds the proposal (SSH_MSG_KEXINIT, RFC 4253, 7.1) behind the identification string.
func sshOffer(said []byte) (o offer, ok bool) {
	start := bytes.Index(said, []byte("SSH-"))
	if start < 0 {
		return offer{}, false
	}
	_, packet, whole := bytes.Cut(said[start:], []byte("\n"))
	const head, cookie, kexInit = 5, 16, 20
	if !whole || len(packet) < head+1+cookie || packet[head] != kexInit {
		return offer{}, false
	}
	rest := packet[head+1+cookie:]
	for _, list := range []*[]string{&o.exchanges, &o.hostKeys, &o.ciphers} {
		if len(rest) < 4 {
			return offer{}, false
		}
		length := int(binary.BigEndian.Uint32(rest))
		if length < 0 || length > len(rest)-4 {
			return offer{}, false
		}
		*list = strings.Split(string(rest[4:4+length]), ",")
		rest = rest[4+length:]
	}
	return o, true
}

func (o offer) text() []byte {
	return []byte("host keys " + strings.Join(o.hostKeys, ",") + "; key exchange " + strings.Join(o.exchanges, ",") + "; ciphers " + strings.Join(o.ciphers, ","))
}

// sshIdentification finds the identification string; a server may send other lines before it.
func sshIdentification(said []byte) []byte {
	for line := range bytes.Lines(said) {
		if bytes.HasPrefix(line, []byte("SSH-")) {
			return bytes.TrimRight(line, "\r\n")
		}
	}
	return firstLine(said)
}

// maxRecorded is as much of a conversation as holds a server's proposal, in bytes.
const maxRecorded = 8 << 10

// recorder keeps the banner that is read from a connection.
type recorder struct {
	net.Conn
	first []byte
}

func (r *recorder) Read(b []byte) (int, error) {
	n, err := r.Conn.Read(b)
	r.first = append(r.first, b[:min(n, maxRecorded-len(r.first))]...)
	return n, err
}
