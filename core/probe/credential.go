package probe

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"airdrift/core/secret"
)

// Credential is one way to be let in by devices that speak SNMP. A community is all that versions 1 and 2c want; version 3
// wants a user (RFC 3414).
type Credential struct {
	ID        uint64
	Name      string // what people call it; it is shown, unlike the rest
	Version   string // one of SNMPVersions
	Community secret.Text
	User      string
	Auth      string // one of AuthProtocols; empty for a user without a key
	AuthKey   secret.Text
	Priv      string // one of PrivProtocols; empty where nothing is encrypted
	PrivKey   secret.Text
}

// The versions of SNMP.
const (
	SNMPv1  = "1"
	SNMPv2c = "2c"
	SNMPv3  = "3"
)

// SNMPVersions are the versions a credential may be for.
var SNMPVersions = []string{SNMPv1, SNMPv2c, SNMPv3}

// minKey is the least length of a key's passphrase (RFC 3414, 11.2).
const minKey = 8

// Check reports what is missing or too much, without telling any secret.
func (c Credential) Check() error {
	switch {
	case strings.TrimSpace(c.Name) == "":
		return errors.New("a credential needs a name")
	case !slices.Contains(SNMPVersions, c.Version):
		return fmt.Errorf("there is no SNMP version %q: want one of %s", c.Version, strings.Join(SNMPVersions, ", "))
	case c.Version != SNMPv3:
		return c.checkCommunity()
	}
	return c.checkUser()
}

func (c Credential) checkCommunity() error {
	switch {
	case c.Community.IsZero():
		return fmt.Errorf("version %s wants a community", c.Version)
	case c.User != "" || c.Auth != "" || c.Priv != "" || !c.AuthKey.IsZero() || !c.PrivKey.IsZero():
		return fmt.Errorf("a user and keys are for version 3; version %s wants a community alone", c.Version)
	}
	return nil
}

func (c Credential) checkUser() error {
	switch {
	case c.User == "":
		return errors.New("version 3 wants a user")
	case !c.Community.IsZero():
		return errors.New("a community is for versions 1 and 2c; version 3 wants a user")
	case c.Auth != "" && authProtocols[c.Auth] == 0:
		return fmt.Errorf("there is no authentication protocol %q: want one of %s", c.Auth, strings.Join(AuthProtocols, ", "))
	case c.Priv != "" && privProtocols[c.Priv] == 0:
		return fmt.Errorf("there is no privacy protocol %q: want one of %s", c.Priv, strings.Join(PrivProtocols, ", "))
	case c.Priv != "" && c.Auth == "":
		return errors.New("encryption wants authentication too (RFC 3414, 1.4.3)")
	case (c.Auth != "") == c.AuthKey.IsZero() || (c.Priv != "") == c.PrivKey.IsZero():
		return errors.New("each protocol wants its key, and a key wants its protocol")
	case c.Auth != "" && len(c.AuthKey.Reveal()) < minKey || c.Priv != "" && len(c.PrivKey.Reveal()) < minKey:
		return fmt.Errorf("a key has at least %d characters (RFC 3414, 11.2)", minKey)
	}
	return nil
}
