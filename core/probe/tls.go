package probe

import (
	"context"
	"crypto/ecdsa"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keyTLSOrg      = "tls.organisation"
	keyTLSAlert    = "tls.alert"
	keyTLSStrength = "tls.strength"
	keyTLSProtocol = "tls.protocol"
)

// What a certificate says, wherever another protocol is spoken within TLS.
var _ = register(Protocol{
	Name: "tls", Source: evidence.SourceTLS, Cost: Middling,
	Facts: []evidence.Fact{
		{Key: evidence.KeyTLSSubject, Says: "common name of the certificate's subject", Standard: "RFC 5280", Example: "cairn.fernhollow.example", Names: 6, Describes: true, By: evidence.TheKeeper},
		{Key: keyTLSOrg, Says: "organisation of the certificate's subject; at most 4", Standard: "RFC 5280", Example: "Example Garden", Names: 9},
		{Key: evidence.KeyTLSIssuer, Says: "common name of the certificate's issuer", Standard: "RFC 5280, 4.1.2.4", Example: "Garden CA", Names: 6},
		{Key: evidence.KeyTLSName, Says: "a host name the certificate is made out to; at most 16", Standard: "RFC 5280, 4.2.1.6", Example: "cairn.fernhollow.example"},
		{Key: evidence.KeyTLSFrom, Says: "the time from which the certificate is valid", Standard: "RFC 5280, 4.1.2.5", Example: "2024-01-01T00:00:00Z"},
		{Key: evidence.KeyTLSUntil, Says: "the time until which the certificate is valid", Standard: "RFC 5280, 4.1.2.5", Example: "2034-01-01T00:00:00Z"},
		{Key: keyTLSAlert, Says: "why it would not agree on TLS", Standard: "RFC 8446, 6", Example: "handshake failure"},
		{Key: keyTLSStrength, Says: "the kind and length of the certificate's key, and how the certificate is signed", Standard: "RFC 5280, 4.1.1.2 and 4.1.2.7", Example: "RSA 2048, SHA256-RSA"},
		{Key: evidence.KeyTLSVersion, Says: "the version that was agreed on", Standard: "RFC 8446", Example: "TLS 1.3"},
		{Key: keyTLSProtocol, Says: "what was agreed to speak within", Standard: "RFC 7301", Example: "http/1.1"},
		{Key: evidence.KeyTLSKey, Says: "SHA-256 of the certificate's public key (SubjectPublicKeyInfo)", Standard: "RFC 5280", Example: "1dda88df…", Use: evidence.PublicKey},
	},
})

// secure agrees on TLS, for one of the protocols or for none in particular, and notes the certificate; nil where the device
// will not.
func secure(ctx context.Context, conn net.Conn, f *found, protocols ...string) *tls.Conn {
	secured := tls.Client(conn, tlsConfig(protocols...))
	if err := secured.HandshakeContext(ctx); err != nil {
		addAlert(err, f)
		// A device that breaks off behind its certificate, as it wants one of ours, has said which it is.
		if state := secured.ConnectionState(); len(state.PeerCertificates) > 0 {
			addCertificate(state, f)
		}
		return nil
	}
	addCertificate(secured.ConnectionState(), f)
	return secured
}

// addAlert notes why the device will not (RFC 8446, 6): that it speaks TLS, and how, is known by that.
func addAlert(err error, f *found) {
	var alert tls.AlertError
	var remote *net.OpError
	switch {
	case errors.As(err, &alert):
		f.add(evidence.SourceTLS, keyTLSAlert, []byte(strings.TrimPrefix(alert.Error(), "tls: ")))
	case errors.As(err, &remote) && remote.Op == "remote error":
		f.add(evidence.SourceTLS, keyTLSAlert, []byte(strings.TrimPrefix(remote.Err.Error(), "tls: ")))
	}
}

// maxNames is how many names of one certificate are kept.
const maxNames = 16

// addCertificate notes what the first certificate says of its holder (RFC 5280, 4.1) and which version was agreed on.
func addCertificate(state tls.ConnectionState, f *found) {
	f.add(evidence.SourceTLS, evidence.KeyTLSVersion, []byte(tls.VersionName(state.Version)))
	f.add(evidence.SourceTLS, keyTLSProtocol, []byte(state.NegotiatedProtocol))
	if len(state.PeerCertificates) == 0 {
		return
	}
	leaf := state.PeerCertificates[0]
	key := sha256.Sum256(leaf.RawSubjectPublicKeyInfo)
	f.add(evidence.SourceTLS, evidence.KeyTLSSubject, []byte(leaf.Subject.CommonName))
	for _, organisation := range leaf.Subject.Organization[:min(len(leaf.Subject.Organization), 4)] {
		f.add(evidence.SourceTLS, keyTLSOrg, []byte(organisation))
	}
	f.add(evidence.SourceTLS, evidence.KeyTLSKey, []byte(hex.EncodeToString(key[:])))
	f.add(evidence.SourceTLS, evidence.KeyTLSIssuer, []byte(leaf.Issuer.CommonName))
	f.add(evidence.SourceTLS, evidence.KeyTLSFrom, []byte(leaf.NotBefore.UTC().Format(time.RFC3339)))
	f.add(evidence.SourceTLS, evidence.KeyTLSUntil, []byte(leaf.NotAfter.UTC().Format(time.RFC3339)))
	f.add(evidence.SourceTLS, keyTLSStrength, []byte(strengthOf(leaf)))
	for _, name := range leaf.DNSNames[:min(len(leaf.DNSNames), maxNames)] {
		f.add(evidence.SourceTLS, evidence.KeyTLSName, []byte(name))
	}
}

// strengthOf says of what kind and length a certificate's key is, and how the certificate is signed.
func strengthOf(leaf *x509.Certificate) string {
	key := leaf.PublicKeyAlgorithm.String()
	switch k := leaf.PublicKey.(type) {
	case *rsa.PublicKey:
		key = fmt.Sprintf("RSA %d", k.N.BitLen())
	case *ecdsa.PublicKey:
		key = fmt.Sprintf("ECDSA %d", k.Curve.Params().BitSize)
	}
	return key + ", " + leaf.SignatureAlgorithm.String()
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
