package store

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"math/big"
	"net"
	"strings"
	"time"
)

// identity is the certificate and key by which a server of our own is known. They are made at its start and live as long as it.
type identity struct {
	name        string // of the server among others of this process
	pem         string // certificate and key
	certificate []byte // DER
}

// identityLife is how long a certificate is good for; a service runs for years and nobody else ever sees it.
const identityLife = 100 * 365 * 24 * time.Hour

func newIdentity() (identity, error) {
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return identity{}, err
	}
	now := time.Now()
	template := &x509.Certificate{
		SerialNumber: big.NewInt(now.UnixNano()), Subject: pkix.Name{CommonName: "airdrift database"}, NotBefore: now.Add(-24 * time.Hour), NotAfter: now.Add(identityLife),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true, BasicConstraintsValid: true,
	}
	certificate, err := x509.CreateCertificate(rand.Reader, template, template, private.Public(), private)
	if err != nil {
		return identity{}, err
	}
	key, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		return identity{}, err
	}
	var text strings.Builder
	err = errors.Join(
		pem.Encode(&text, &pem.Block{Type: "CERTIFICATE", Bytes: certificate}),
		pem.Encode(&text, &pem.Block{Type: "PRIVATE KEY", Bytes: key}))
	return identity{"airdrift-" + rand.Text(), text.String(), certificate}, err
}

var errImpostor = errors.New("another program than the database server that was started answers at its port")

// client gives the settings of whoever speaks to this server and to nobody else.
func (i identity) client() *tls.Config {
	return &tls.Config{
		MinVersion: tls.VersionTLS12,
		// Names and signatures of the certificate do not matter, as it is the very one that is wanted.
		InsecureSkipVerify: true,
		VerifyConnection: func(state tls.ConnectionState) error {
			if !bytes.Equal(state.PeerCertificates[0].Raw, i.certificate) {
				return errImpostor
			}
			return nil
		},
	}
}
