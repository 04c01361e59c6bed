package service

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"math/big"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"airdrift/internal/atomicfile"
)

const (
	certificateFile = "tls-certificate.pem"
	keyFile         = "tls-key.pem"
	certificateLife = 2 * 365 * 24 * time.Hour
)

// NeedsTLS reports whether the service speaks TLS: always where it can be reached from other machines.
func NeedsTLS(config InstanceConfig) (bool, error) {
	host, _, err := net.SplitHostPort(config.Listen)
	if err != nil {
		return false, fmt.Errorf("%q is not an address to listen on: want host:port such as 127.0.0.1:8470", config.Listen)
	}
	if (config.Certificate == "") != (config.Key == "") {
		return false, errors.New("a TLS certificate and its key go together: give both --tls-certificate and --tls-key, or neither")
	}
	addr, err := netip.ParseAddr(host)
	local := host == "localhost" || err == nil && addr.IsLoopback()
	return !local || config.TLS || config.Certificate != "", nil
}

// tlsSettings loads the certificate, or makes one that nobody has signed. pin is the SHA-256 of its key, which stays when the
// certificate is renewed.
func tlsSettings(config InstanceConfig, listen net.Addr) (settings *tls.Config, pin string, err error) {
	settings = &tls.Config{MinVersion: tls.VersionTLS12}
	if config.Certificate != "" {
		pair, err := tls.LoadX509KeyPair(config.Certificate, config.Key)
		if err != nil {
			return nil, "", fmt.Errorf("TLS certificate %s with key %s: %w", config.Certificate, config.Key, err)
		}
		settings.Certificates = []tls.Certificate{pair}
		return settings, pinOf(pair), nil
	}
	made := &madeCertificate{
		certificate: filepath.Join(config.Data, certificateFile), key: filepath.Join(config.Data, keyFile), now: time.Now,
		wanted: func() []net.IP { return addressesOf(listen) },
	}
	pair, err := made.current()
	if err != nil {
		return nil, "", fmt.Errorf("make a TLS certificate: %w", err)
	}
	settings.GetCertificate = func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return made.current() }
	return settings, pinOf(*pair), nil
}

// pinOf gives the SHA-256 of a certificate's key (RFC 7469, 2.4, in hexadecimal).
func pinOf(pair tls.Certificate) string {
	sum := sha256.Sum256(pair.Leaf.RawSubjectPublicKeyInfo)
	return hex.EncodeToString(sum[:])
}

const (
	// renewBefore is how long before its end a certificate is renewed, and lookEvery how often it is looked at.
	renewBefore = 30 * 24 * time.Hour
	lookEvery   = time.Minute
)

// madeCertificate is a certificate that the service has made itself. It is renewed with the same key before it ends, and when
// this machine has got other addresses, while the service runs.
type madeCertificate struct {
	certificate, key string // files
	now              func() time.Time
	wanted           func() []net.IP // the addresses it has to be for

	mu     sync.Mutex // guards all below
	pair   *tls.Certificate
	looked time.Time
}

// current gives the certificate to show now.
func (m *madeCertificate) current() (*tls.Certificate, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	now := m.now()
	if m.pair != nil && now.Sub(m.looked) < lookEvery && !now.Before(m.looked) {
		return m.pair, nil
	}
	pair := m.pair
	if pair == nil {
		loaded, err := tls.LoadX509KeyPair(m.certificate, m.key)
		switch {
		case err == nil:
			pair = &loaded
		case !errors.Is(err, fs.ErrNotExist):
			return nil, err
		}
	}
	if pair == nil || now.Add(renewBefore).After(pair.Leaf.NotAfter) || !isFor(pair.Leaf, m.wanted()) {
		fresh, err := m.make(pair, now)
		switch {
		case err == nil:
			pair = fresh
		case pair == nil:
			return nil, err
		default: // the one there is is better than none
			slog.Error("the TLS certificate could not be renewed", "error", err)
		}
	}
	m.pair, m.looked = pair, now
	return pair, nil
}

// isFor reports whether a certificate is for all of some addresses.
func isFor(leaf *x509.Certificate, addresses []net.IP) bool {
	return !slices.ContainsFunc(addresses, func(wanted net.IP) bool {
		return !slices.ContainsFunc(leaf.IPAddresses, wanted.Equal)
	})
}

// make makes a certificate for this machine's names and addresses and writes it to its file, with the key of the one before.
func (m *madeCertificate) make(before *tls.Certificate, now time.Time) (*tls.Certificate, error) {
	private, err := m.privateKey(before)
	if err != nil {
		return nil, err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 127))
	if err != nil {
		return nil, err
	}
	host, err := os.Hostname()
	if err != nil {
		host = "localhost"
	}
	template := &x509.Certificate{
		SerialNumber: serial, Subject: pkix.Name{CommonName: host}, NotBefore: now.Add(-time.Hour), NotAfter: now.Add(certificateLife),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		DNSNames: []string{host, "localhost"}, IPAddresses: m.wanted(),
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, private.Public(), private)
	if err != nil {
		return nil, err
	}
	text := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
	if err := atomicfile.Write(m.certificate, text, 0o644); err != nil {
		return nil, err
	}
	leaf, err := x509.ParseCertificate(der)
	return &tls.Certificate{Certificate: [][]byte{der}, PrivateKey: private, Leaf: leaf}, err
}

// privateKey gives the key of the certificate before, or makes one and writes it to its file.
func (m *madeCertificate) privateKey(before *tls.Certificate) (crypto.Signer, error) {
	if before != nil {
		if private, ok := before.PrivateKey.(crypto.Signer); ok {
			return private, nil
		}
	}
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	secret, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		return nil, err
	}
	return private, atomicfile.Write(m.key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret}), 0o600)
}

// addressesOf gives the addresses that a certificate is for: the one listened on, or all of this machine's.
func addressesOf(listen net.Addr) []net.IP {
	if at, ok := listen.(*net.TCPAddr); ok && !at.IP.IsUnspecified() {
		return []net.IP{at.IP}
	}
	ips := []net.IP{net.IPv4(127, 0, 0, 1), net.IPv6loopback}
	all, _ := net.InterfaceAddrs() // where it fails the names remain
	for _, a := range all {
		if network, ok := a.(*net.IPNet); ok {
			ips = append(ips, network.IP)
		}
	}
	return ips
}
