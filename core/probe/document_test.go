package probe

import (
	"cmp"
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"airdrift/core/evidence"
)

var update = flag.Bool("update", false, "write docs/evidence.md anew")

const evidenceHead = `# Evidence

One fact is one thing that one probe obtained: source, key, port, value, time, and the round trip where one was measured.
Values are valid UTF-8 of at most 1,024 bytes. Facts of one source are one witness to the engine.

This page is made from what the protocols register (` + "`go test ./core/probe -run TestEvidenceDocument -update`" + `); a test holds it against that.
Under *good for* stands what a fact is used for beside being read: ` + "`identifier`" + ` and ` + "`public key`" + ` recognise a device, ` + "`MAC`" + ` and ` + "`own address`" + ` are its
own by its word, ` + "`describes`" + ` are words of its own that rules may name together, of which ` + "`keeper's words`" + ` may be about what it is for and ` + "`a page's words`" + ` about something
else that it serves; a ` + "`host name`" + ` is its maker's until somebody gives it another; ` + "`maker n dB`" + ` is what a maker's name in a text adds.

| key | source | what it says | standard | example | good for |
| --- | --- | --- | --- | --- | --- |
`

const evidenceTail = `
Made from other facts, for rules to rest on:

| key | source | what it says |
| --- | --- | --- |
| ` + "`arp.private` | arp, nd | `yes`" + ` where the MAC address is locally administered (IEEE 802-2014, 8.4) |

## Protocols

What each costs a device: *light* is a packet or a connection, *middling* several packets or a handshake with keys, *demanding* several
connections, many packets, or more than the smallest controllers bear. The gentle pace asks nothing demanding. Each can be switched off by its
name, and so can its parts.

| name | cost | by connection at | by question to | groups of the segment | frames | parts |
| --- | --- | --- | --- | --- | --- | --- |
`

var useNames = map[evidence.Use]string{
	evidence.PublicKey: "public key", evidence.Identifier: "identifier", evidence.HardwareAddress: "MAC", evidence.OwnAddress: "own address",
}

var authorNames = map[evidence.Author]string{
	evidence.TheKeeper: "keeper's words", evidence.ThePage: "a page's words", evidence.TheHost: "host name",
}

var costNames = map[Cost]string{Light: "light", Middling: "middling", Demanding: "demanding"}

func goodFor(f evidence.Fact) string {
	var uses []string
	if f.Use != evidence.NoUse {
		uses = append(uses, useNames[f.Use])
	}
	if f.Describes {
		uses = append(uses, "describes")
	}
	if f.By != evidence.TheMaker {
		uses = append(uses, authorNames[f.By])
	}
	if f.Names > 0 {
		uses = append(uses, fmt.Sprintf("maker %d dB", f.Names))
	}
	return strings.Join(uses, ", ")
}

func evidenceDocument() string {
	var doc strings.Builder
	doc.WriteString(evidenceHead)
	facts := evidence.Catalogue()
	slices.SortStableFunc(facts, func(a, b evidence.Fact) int { return cmp.Compare(a.Source, b.Source) })
	for _, f := range facts {
		example := ""
		if f.Example != "" {
			example = "`" + f.Example + "`"
		}
		fmt.Fprintf(&doc, "| `%s` | %s | %s | %s | %s | %s |\n", f.Key, f.Source, f.Says, f.Standard, example, goodFor(f))
	}
	doc.WriteString(evidenceTail)
	byName := Protocols()
	slices.SortFunc(byName, func(a, b *Protocol) int { return cmp.Compare(a.Name, b.Name) })
	for _, p := range byName {
		doc.WriteString(protocolRow(p))
	}
	return doc.String()
}

func protocolRow(p *Protocol) string {
	var ports, groups, frames []string
	for _, port := range p.Ports {
		ports = append(ports, fmt.Sprint(port))
	}
	if p.AnyPort {
		ports = append(ports, "all others")
	}
	for _, g := range p.Groups {
		groups = append(groups, g.At.String())
	}
	for _, f := range p.Frames {
		frames = append(frames, fmt.Sprintf("%#04x", f))
	}
	at := p.Port.String()
	if p.ByOthers {
		at = "name servers"
	}
	return fmt.Sprintf("| `%s` | %s | %s | %s | %s | %s | %s |\n", p.Name, costNames[p.Cost], strings.Join(ports, ", "), at, strings.Join(groups, ", "), strings.Join(frames, ", "), strings.Join(p.Parts, ", "))
}

// TestEvidenceDocument holds the document of all facts against what the protocols register.
func TestEvidenceDocument(t *testing.T) {
	const path = "../../docs/evidence.md"
	want := evidenceDocument()
	if *update {
		if err := os.WriteFile(path, []byte(want), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if got, err := os.ReadFile(path); err != nil || string(got) != want {
		t.Errorf("docs/evidence.md is not what the protocols register, %v: write it anew with -update", err)
	}
}
