package probe

import (
	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keyIMAP = "mail.imap"
)

// IMAP servers speak first, and that is all that is wanted of them.
var _ = register(Protocol{
	Name: "imap", Source: evidence.SourceMail, Cost: Light,
	Ports: []uint16{143}, Usual: []uint16{143}, Telling: []uint16{143}, Talk: greeting(evidence.SourceMail, keyIMAP),
	Facts: []evidence.Fact{
		{Key: keyIMAP, Says: "first line of port 143", Standard: "RFC 9051", Example: "* OK ready"},
	},
})
