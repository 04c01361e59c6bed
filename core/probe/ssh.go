package probe

import (
	"bytes"
	"context"
	"errors"
	"net"
	"net/netip"

	"golang.org/x/crypto/ssh"

	"airdrift/core/evidence"
)

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

// talkSSH reads the identification string (RFC 4253, 4.2) and the host key, which recognises the device again at
// another address.
func talkSSH(_ context.Context, conn net.Conn, addr netip.AddrPort, f *found) {
	record := &recorder{Conn: conn}
	supported, insecure := ssh.SupportedAlgorithms(), ssh.InsecureAlgorithms()
	config := &ssh.ClientConfig{
		Config: ssh.Config{
			KeyExchanges: append(supported.KeyExchanges, insecure.KeyExchanges...),
			Ciphers:      append(supported.Ciphers, insecure.Ciphers...),
			MACs:         append(supported.MACs, insecure.MACs...),
		},
		HostKeyAlgorithms: hostKeyAlgorithms,
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			f.add(evidence.SourceSSH, evidence.KeySSHHostKey, []byte(ssh.FingerprintSHA256(key)))
			return errSeenKey
		},
	}
	if client, _, _, err := ssh.NewClientConn(record, addr.String(), config); err == nil {
		client.Close()
	}
	f.add(evidence.SourceSSH, evidence.KeySSHGreeting, sshIdentification(record.first))
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

// recorder keeps the first words that are read from a connection.
type recorder struct {
	net.Conn
	first []byte
}

func (r *recorder) Read(b []byte) (int, error) {
	n, err := r.Conn.Read(b)
	r.first = append(r.first, b[:min(n, evidence.MaxValue-len(r.first))]...)
	return n, err
}
