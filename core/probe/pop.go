package probe

import (
	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keyPOP = "mail.pop"
)

// Post offices speak first, and that is all that is wanted of them.
var _ = register(Protocol{
	Name: "pop", Source: evidence.SourceMail, Cost: Light,
	Ports: []uint16{110}, Usual: []uint16{110}, Telling: []uint16{110}, Talk: greeting(evidence.SourceMail, keyPOP),
	Facts: []evidence.Fact{
		{Key: keyPOP, Says: "first line of port 110", Standard: "RFC 1939", Example: "+OK ready"},
	},
})
