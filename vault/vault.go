// Package vault seals secrets for keeping in a database, with a key that is kept elsewhere.
package vault

import (
	"crypto/cipher"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"golang.org/x/crypto/chacha20poly1305"
)

// ErrSealed is returned where what was sealed cannot be opened: the key is another, or it belongs elsewhere.
var ErrSealed = errors.New("a secret cannot be opened with the key of this service: was the file secrets.key replaced, or the database moved without it? Enter the credential anew")

// Vault seals and opens secrets (XChaCha20-Poly1305, RFC 8439 with the extended nonce). It may be used from several
// goroutines.
type Vault struct{ box cipher.AEAD }

// Open reads the key from a file that only its owner may read, or makes both.
func Open(path string) (*Vault, error) {
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return create(path)
	}
	if err != nil {
		return nil, fmt.Errorf("key of the secrets: %w", err)
	}
	if info, err := os.Stat(path); err == nil && info.Mode().Perm()&0o077 != 0 {
		if err := os.Chmod(path, 0o600); err != nil {
			return nil, fmt.Errorf("key of the secrets: others may read %s: %w", path, err)
		}
	}
	key, err := base64.StdEncoding.DecodeString(strings.TrimSpace(string(text)))
	if err != nil || len(key) != chacha20poly1305.KeySize {
		return nil, fmt.Errorf("%s does not hold a key of %d bytes in base64", path, chacha20poly1305.KeySize)
	}
	return newVault(key)
}

func create(path string) (*Vault, error) {
	key := make([]byte, chacha20poly1305.KeySize)
	_, _ = rand.Read(key) // never fails (crypto/rand)
	if err := os.WriteFile(path, []byte(base64.StdEncoding.EncodeToString(key)+"\n"), 0o600); err != nil {
		return nil, fmt.Errorf("key of the secrets: %w", err)
	}
	return newVault(key)
}

func newVault(key []byte) (*Vault, error) {
	box, err := chacha20poly1305.NewX(key)
	if err != nil {
		return nil, err
	}
	return &Vault{box}, nil
}

// Seal seals a text for a place, such as a row of a table: it can be opened there alone.
func (v *Vault) Seal(place string, text []byte) []byte {
	nonce := make([]byte, v.box.NonceSize(), v.box.NonceSize()+len(text)+v.box.Overhead())
	_, _ = rand.Read(nonce) // never fails (crypto/rand)
	return v.box.Seal(nonce, nonce, text, []byte(place))
}

// Open opens what Seal has sealed for the same place; ErrSealed where that fails.
func (v *Vault) Open(place string, sealed []byte) ([]byte, error) {
	if len(sealed) < v.box.NonceSize() {
		return nil, ErrSealed
	}
	nonce, body := sealed[:v.box.NonceSize()], sealed[v.box.NonceSize():]
	text, err := v.box.Open(nil, nonce, body, []byte(place))
	if err != nil {
		return nil, ErrSealed
	}
	return text, nil
}
