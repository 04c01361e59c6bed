package probe

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"net"
	"net/netip"

	"airdrift/core/evidence"
)

// talkHTTPS notes who the certificate says is there, and asks for the start page.
func talkHTTPS(ctx context.Context, conn net.Conn, addr netip.AddrPort, f *found) {
	secured := tls.Client(conn, tlsConfig())
	if err := secured.HandshakeContext(ctx); err != nil {
		return
	}
	if chain := secured.ConnectionState().PeerCertificates; len(chain) > 0 {
		f.add(evidence.SourceTLS, evidence.KeyTLSSubject, []byte(chain[0].Subject.CommonName))
		key := sha256.Sum256(chain[0].RawSubjectPublicKeyInfo)
		f.add(evidence.SourceTLS, evidence.KeyTLSKey, []byte(hex.EncodeToString(key[:])))
	}
	talkHTTP(ctx, secured, addr, f)
}

// tlsConfig takes whatever a device has: old controllers know only old versions, nearly all certificates are
// self-signed, and nothing secret is ever sent.
func tlsConfig() *tls.Config {
	config := &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS10}
	for _, suite := range append(tls.CipherSuites(), tls.InsecureCipherSuites()...) {
		config.CipherSuites = append(config.CipherSuites, suite.ID)
	}
	return config
}
