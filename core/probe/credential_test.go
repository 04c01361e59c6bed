package probe

import (
	"strings"
	"testing"

	"airdrift/core/secret"
)

// A credential is refused with what is missing or too much, and no secret of it is told.
func TestCredentialsThatCannotBe(t *testing.T) {
	const told = "sesame-sesame"
	key := secret.New(told)
	v3 := Credential{Name: "garden", Version: SNMPv3, User: "auditor", Auth: AuthProtocols[0], AuthKey: key, Priv: PrivProtocols[0], PrivKey: key}
	for name, tt := range map[string]struct {
		is     Credential
		change func(*Credential)
		want   string
	}{
		"no name":                        {v3, func(c *Credential) { c.Name = " " }, "needs a name"},
		"no version":                     {v3, func(c *Credential) { c.Version = "4" }, `no SNMP version "4"`},
		"2c without a community":         {Credential{Name: "x", Version: SNMPv2c}, func(*Credential) {}, "version 2c wants a community"},
		"1 with a user":                  {Credential{Name: "x", Version: SNMPv1, Community: key}, func(c *Credential) { c.User = "auditor" }, "a user and keys are for version 3"},
		"2c with a key":                  {Credential{Name: "x", Version: SNMPv2c, Community: key}, func(c *Credential) { c.PrivKey = key }, "a user and keys are for version 3"},
		"3 without a user":               {v3, func(c *Credential) { c.User = "" }, "version 3 wants a user"},
		"3 with a community":             {v3, func(c *Credential) { c.Community = key }, "a community is for versions 1 and 2c"},
		"an authentication that is none": {v3, func(c *Credential) { c.Auth = "ROT13" }, `no authentication protocol "ROT13"`},
		"a privacy that is none":         {v3, func(c *Credential) { c.Priv = "ROT13" }, `no privacy protocol "ROT13"`},
		"privacy alone":                  {v3, func(c *Credential) { c.Auth, c.AuthKey = "", secret.Text{} }, "encryption wants authentication too"},
		"a protocol without its key":     {v3, func(c *Credential) { c.PrivKey = secret.Text{} }, "each protocol wants its key"},
		"a key without its protocol":     {v3, func(c *Credential) { c.Priv = "" }, "a key wants its protocol"},
		"too short a key":                {v3, func(c *Credential) { c.AuthKey = secret.New(told[:minKey-1]) }, "at least 8 characters"},
	} {
		tt.change(&tt.is)
		err := tt.is.Check()
		if err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s: %v, want %q", name, err, tt.want)
			continue
		}
		if strings.Contains(err.Error(), told[:minKey-1]) {
			t.Errorf("%s: the error tells a secret: %v", name, err)
		}
	}
	for _, c := range []Credential{v3, {Name: "x", Version: SNMPv3, User: "auditor"}, {Name: "x", Version: SNMPv1, Community: key}} {
		if err := c.Check(); err != nil {
			t.Errorf("version %s, user %q: %v", c.Version, c.User, err)
		}
	}
}
