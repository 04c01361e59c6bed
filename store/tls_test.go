package store

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// writeCertificate makes a certificate for 127.0.0.1 and its key, for a server that everybody may read them of.
func writeCertificate(t *testing.T, dir string) (certificate, key string) {
	t.Helper()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "database"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true, BasicConstraintsValid: true,
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, private.Public(), private)
	if err != nil {
		t.Fatal(err)
	}
	secret, err := x509.MarshalECPrivateKey(private)
	if err != nil {
		t.Fatal(err)
	}
	certificate, key = filepath.Join(dir, "certificate.pem"), filepath.Join(dir, "key.pem")
	for path, block := range map[string]*pem.Block{certificate: {Type: "CERTIFICATE", Bytes: der}, key: {Type: "EC PRIVATE KEY", Bytes: secret}} {
		if err := os.WriteFile(path, pem.EncodeToMemory(block), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	return certificate, key
}

// A database of others is met by TLS, and only where its certificate is one that is trusted.
func TestOpenByTLS(t *testing.T) {
	dir, err := os.MkdirTemp("", "airdrift-tls-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o711); err != nil {
		t.Fatal(err)
	}
	certificate, key := writeCertificate(t, dir)
	program, err := findProgram("mariadbd")
	if err != nil {
		t.Fatal(err)
	}
	h, err := prepareHome(filepath.Join(dir, "database"))
	if err != nil {
		t.Fatal(err)
	}
	if err := h.initialise(t.Context()); err != nil {
		t.Fatal(err)
	}
	h.more = []string{"--ssl-cert=" + certificate, "--ssl-key=" + key}
	server, err := h.start(t.Context(), program)
	if err != nil {
		t.Fatal(err)
	}
	defer server.Stop()
	s, err := Open(t.Context(), server.DSN(), WithCA(certificate))
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	var name, cipher string
	if err := s.db.Raw("SHOW STATUS LIKE 'Ssl_cipher'").Row().Scan(&name, &cipher); err != nil || cipher == "" {
		t.Errorf("the connection has the cipher %q, %v", cipher, err)
	}
	other, _ := writeCertificate(t, t.TempDir())
	if _, err := Open(t.Context(), server.DSN(), WithCA(other)); err == nil || !strings.Contains(err.Error(), "certificate") {
		t.Errorf("a certificate that is not trusted gave %v", err)
	}
	for name, path := range map[string]string{"no file": filepath.Join(dir, "gone.pem"), "no certificate": key} {
		if _, err := Open(t.Context(), server.DSN(), WithCA(path)); err == nil || !strings.Contains(err.Error(), "certificates of the database") {
			t.Errorf("%s gave %v", name, err)
		}
	}
}
