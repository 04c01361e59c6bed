package service

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"strings"

	"airdrift/books"
	"airdrift/core/ledger"
	"airdrift/core/register"
	"airdrift/store"
)

// MatchInput is for what may be changed only as it was looked at (RFC 9110, 13.1.1).
type MatchInput struct {
	IfMatch string `header:"If-Match" maxLength:"1000" doc:"The ETag of what was looked at; it is changed only if it is still so"`
}

// check refuses where something is not as it was looked at.
func (in MatchInput) check(tag string) error {
	if in.IfMatch == "" || strings.TrimSpace(in.IfMatch) == "*" {
		return nil
	}
	for each := range strings.SplitSeq(in.IfMatch, ",") {
		if strings.TrimSpace(each) == tag {
			return nil
		}
	}
	return books.ErrChanged
}

// tagOf gives the entity tag of what people write (RFC 9110, 8.8.3).
func tagOf(written any) string {
	text, _ := json.Marshal(written) // plain data
	sum := sha256.Sum256(text)
	return `"` + base64.RawURLEncoding.EncodeToString(sum[:12]) + `"`
}

// deviceTag is of what people have said of a device.
func deviceTag(d ledger.Device) string {
	entry := uint64(0)
	if d.Entry != nil {
		entry = d.Entry.ID
	}
	return tagOf([]any{d.ID, d.Note, d.Aside, d.Group, d.Linked, entry})
}

func entryTag(e register.Entry) string { return tagOf(e) }

func siteTag(s store.Site) string { return tagOf([]any{s.ID, s.Name, s.Networks, s.NameServers}) }

func ruleTag(f store.RuleFile) string { return tagOf([]any{f.ID, f.Name, f.Text, f.Active}) }

// whileDevice checks a device while its ledger is held.
func (in MatchInput) whileDevice(d ledger.Device) error { return in.check(deviceTag(d)) }

// whileEntry checks an entry likewise.
func (in MatchInput) whileEntry(e register.Entry) error { return in.check(entryTag(e)) }
