package probe

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"net"
	"net/netip"
	"time"

	"airdrift/core/evidence"
)

// talkHTTPS notes who the certificate says is there, and asks for the start page.
func talkHTTPS(ctx context.Context, conn net.Conn, addr netip.AddrPort, f *found) {
	secured := secure(ctx, conn, f, webProtocols...)
	if secured == nil {
		return
	}
	talkPages(ctx, secured, startPage("https", addr), f)
}

// webProtocols are what we would speak over TLS to a web server (RFC 7301, 6).
var webProtocols = []string{"http/1.1", "http/1.0"}

// secure agrees on TLS, for one of the protocols or for none in particular, and notes the certificate; nil where the device
// will not.
func secure(ctx context.Context, conn net.Conn, f *found, protocols ...string) *tls.Conn {
	secured := tls.Client(conn, tlsConfig(protocols...))
	if err := secured.HandshakeContext(ctx); err != nil {
		return nil
	}
	addCertificate(secured.ConnectionState(), f)
	return secured
}

// maxNames is how many names of one certificate are kept.
const maxNames = 16

// addCertificate notes what the first certificate says of its holder (RFC 5280, 4.1) and which version was agreed on.
func addCertificate(state tls.ConnectionState, f *found) {
	f.add(evidence.SourceTLS, evidence.KeyTLSVersion, []byte(tls.VersionName(state.Version)))
	f.add(evidence.SourceTLS, evidence.KeyTLSProtocol, []byte(state.NegotiatedProtocol))
	if len(state.PeerCertificates) == 0 {
		return
	}
	leaf := state.PeerCertificates[0]
	key := sha256.Sum256(leaf.RawSubjectPublicKeyInfo)
	f.add(evidence.SourceTLS, evidence.KeyTLSSubject, []byte(leaf.Subject.CommonName))
	for _, organisation := range leaf.Subject.Organization[:min(len(leaf.Subject.Organization), 4)] {
		f.add(evidence.SourceTLS, evidence.KeyTLSOrg, []byte(organisation))
	}
	f.add(evidence.SourceTLS, evidence.KeyTLSKey, []byte(hex.EncodeToString(key[:])))
	f.add(evidence.SourceTLS, evidence.KeyTLSIssuer, []byte(leaf.Issuer.CommonName))
	f.add(evidence.SourceTLS, evidence.KeyTLSFrom, []byte(leaf.NotBefore.UTC().Format(time.RFC3339)))
	f.add(evidence.SourceTLS, evidence.KeyTLSUntil, []byte(leaf.NotAfter.UTC().Format(time.RFC3339)))
	for _, name := range leaf.DNSNames[:min(len(leaf.DNSNames), maxNames)] {
		f.add(evidence.SourceTLS, evidence.KeyTLSName, []byte(name))
	}
}

// tlsConfig takes whatever a device has: old controllers know only old versions, nearly all certificates are
// self-signed, and nothing secret is ever sent.
func tlsConfig(protocols ...string) *tls.Config {
	config := &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS10, NextProtos: protocols}
	for _, suite := range append(tls.CipherSuites(), tls.InsecureCipherSuites()...) {
		config.CipherSuites = append(config.CipherSuites, suite.ID)
	}
	return config
}
