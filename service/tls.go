package service

import (
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
	"math/big"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"time"
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

// tlsSettings loads the certificate, or makes one that nobody has signed. pin is the SHA-256 of the certificate.
func tlsSettings(config InstanceConfig, listen net.Addr) (settings *tls.Config, pin string, err error) {
	certificate, key := config.Certificate, config.Key
	if certificate == "" {
		certificate, key = filepath.Join(config.Data, certificateFile), filepath.Join(config.Data, keyFile)
		if err := makeCertificate(certificate, key, listen); err != nil {
			return nil, "", fmt.Errorf("make a TLS certificate: %w", err)
		}
	}
	pair, err := tls.LoadX509KeyPair(certificate, key)
	if err != nil {
		return nil, "", fmt.Errorf("TLS certificate %s with key %s: %w", certificate, key, err)
	}
	sum := sha256.Sum256(pair.Certificate[0])
	return &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12}, hex.EncodeToString(sum[:]), nil
}

// makeCertificate makes a certificate for this machine's names and addresses where there is none that is still valid.
func makeCertificate(certificate, key string, listen net.Addr) error {
	if pair, err := tls.LoadX509KeyPair(certificate, key); err == nil && time.Now().Before(pair.Leaf.NotAfter) {
		return nil
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 127))
	if err != nil {
		return err
	}
	host, err := os.Hostname()
	if err != nil {
		host = "localhost"
	}
	now := time.Now()
	template := &x509.Certificate{
		SerialNumber: serial, Subject: pkix.Name{CommonName: host}, NotBefore: now.Add(-time.Hour), NotAfter: now.Add(certificateLife),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		DNSNames: []string{host, "localhost"}, IPAddresses: addressesOf(listen),
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, private.Public(), private)
	if err != nil {
		return err
	}
	secret, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		return err
	}
	if err := os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret}), 0o600); err != nil {
		return err
	}
	return os.WriteFile(certificate, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o644)
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
