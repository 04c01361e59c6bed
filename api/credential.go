package api

import "time"

// Credential is one way to be let in by agents of SNMP, without what is secret of it.
type Credential struct {
	ID        uint64    `json:"id"`
	Name      string    `json:"name"`
	Version   string    `json:"version" enum:"1,2c,3"`
	User      string    `json:"user,omitempty"`
	Auth      string    `json:"authentication,omitempty"`
	Priv      string    `json:"privacy,omitempty"`
	CreatedAt time.Time `json:"createdAt"`
}

// NewCredential is a credential with what is secret of it, which goes in and never comes out again.
type NewCredential struct {
	Name      string `json:"name" minLength:"1" maxLength:"100"`
	Version   string `json:"version" enum:"1,2c,3"`
	Community string `json:"community,omitempty" maxLength:"255" writeOnly:"true"`
	User      string `json:"user,omitempty" maxLength:"100"`
	Auth      string `json:"authentication,omitempty" enum:"MD5,SHA,SHA-224,SHA-256,SHA-384,SHA-512"`
	AuthKey   string `json:"authenticationKey,omitempty" maxLength:"255" writeOnly:"true"`
	Priv      string `json:"privacy,omitempty" enum:"DES,AES,AES-192,AES-256"`
	PrivKey   string `json:"privacyKey,omitempty" maxLength:"255" writeOnly:"true"`
}

// CredentialTrial is what came of trying a credential on a device.
type CredentialTrial struct {
	Taken    bool   `json:"taken" doc:"The device's agent let us in with it"`
	Answered bool   `json:"answered" doc:"The device's agent answered at all"`
	Facts    []Fact `json:"facts" nullable:"false" doc:"The beginning of what it told"`
}
