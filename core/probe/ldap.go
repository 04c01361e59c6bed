package probe

import (
	"bufio"
	"context"
	"encoding/asn1"
	"io"
	"net"
	"net/netip"
	"strings"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keyLDAPVendor    = "ldap.vendor"
	keyLDAPVersion   = "ldap.version"
	keyLDAPContext   = "ldap.context"
	keyLDAPHost      = "ldap.host"
	keyLDAPDirectory = "ldap.directory"
)

var _ = register(Protocol{
	Name: "ldap", Source: evidence.SourceLDAP, Cost: Light,
	Ports: []uint16{389}, Telling: []uint16{389}, Talk: talkLDAP,
	Facts: []evidence.Fact{
		{Key: keyLDAPVendor, Says: "maker of the directory", Standard: "RFC 4512, 5.1; RFC 3045", Example: "Example Directories"},
		{Key: keyLDAPVersion, Says: "version of the directory", Standard: "RFC 4512, 5.1; RFC 3045", Example: "2.5"},
		{Key: keyLDAPContext, Says: "a tree that it holds", Standard: "RFC 4512, 5.1; RFC 3045", Example: "dc=garden,dc=example"},
		{Key: keyLDAPHost, Says: "its host name", Standard: "RFC 4512, 5.1; RFC 3045", Example: "acorn.garden.example"},
		{Key: keyLDAPDirectory, Says: "what tells the kind of directory, behind its name", Standard: "RFC 4512, 5.1; RFC 3045", Example: "structuralObjectClass OpenLDAProotDSE"},
	},
})

// ldapAttributes are asked of the root entry (RFC 4512, 5.1, RFC 3045, and what directories add).
var ldapAttributes = map[string]string{
	"vendorName": keyLDAPVendor, "vendorVersion": keyLDAPVersion, "namingContexts": keyLDAPContext,
	"dnsHostName": keyLDAPHost, "forestFunctionality": keyLDAPDirectory, "structuralObjectClass": keyLDAPDirectory,
}

// maxLDAPValues is how many values of one attribute are kept.
const maxLDAPValues = 8

// der puts a tag and a length of less than 65536 before content.
func der(tag byte, content ...[]byte) []byte {
	var body []byte
	for _, c := range content {
		body = append(body, c...)
	}
	switch {
	case len(body) < 128:
		return append([]byte{tag, byte(len(body))}, body...)
	case len(body) < 256:
		return append([]byte{tag, 0x81, byte(len(body))}, body...)
	}
	return append([]byte{tag, 0x82, byte(len(body) >> 8), byte(len(body))}, body...)
}

// rootRequest asks for the root entry without signing in (RFC 4511, 4.5.1).
func rootRequest() []byte {
	var names [][]byte
	for _, name := range []string{"vendorName", "vendorVersion", "namingContexts", "dnsHostName", "forestFunctionality", "structuralObjectClass"} {
		names = append(names, der(4, []byte(name)))
	}
	search := der(0x63, der(4), der(10, []byte{0}), der(10, []byte{0}), der(2, []byte{1}), der(2, []byte{5}), der(1, []byte{0}),
		der(0x87, []byte("objectClass")), der(0x30, names...))
	return der(0x30, der(2, []byte{1}), search)
}

// talkLDAP reads the root entry of a directory.
func talkLDAP(_ context.Context, conn net.Conn, _ netip.AddrPort, f *found) {
	if _, err := conn.Write(rootRequest()); err != nil {
		return
	}
	message, err := readDER(bufio.NewReader(io.LimitReader(conn, maxAnswer)))
	if err != nil {
		return
	}
	readRootEntry(message, f)
	_, _ = conn.Write(der(0x30, der(2, []byte{2}), der(0x42))) // unbind: a courtesy
}

// readDER reads one element whole.
func readDER(r *bufio.Reader) ([]byte, error) {
	head, err := r.Peek(2)
	if err != nil {
		return nil, err
	}
	size, length := 2, int(head[1])
	if length >= 0x80 {
		octets := length & 0x7f
		if octets == 0 || octets > 3 {
			return nil, errSilent
		}
		if head, err = r.Peek(2 + octets); err != nil {
			return nil, err
		}
		size, length = 2+octets, 0
		for _, b := range head[2:] {
			length = length<<8 | int(b)
		}
	}
	if size+length > maxAnswer {
		return nil, errSilent
	}
	message := make([]byte, size+length)
	_, err = io.ReadFull(r, message)
	return message, err
}

// readRootEntry reads a search result entry (RFC 4511, 4.5.2).
func readRootEntry(message []byte, f *found) {
	const entry = 4 // application tag
	parts := children(message)
	if len(parts) < 2 || parts[1].Class != asn1.ClassApplication || parts[1].Tag != entry {
		return
	}
	fields := children(parts[1].FullBytes)
	if len(fields) < 2 {
		return
	}
	for _, attribute := range children(fields[1].FullBytes) {
		pair := children(attribute.FullBytes)
		if len(pair) < 2 {
			continue
		}
		for name, key := range ldapAttributes {
			if !strings.EqualFold(name, string(pair[0].Bytes)) {
				continue
			}
			for i, value := range children(pair[1].FullBytes) {
				if i < maxLDAPValues {
					f.add(evidence.SourceLDAP, key, ldapValue(name, value.Bytes))
				}
			}
		}
	}
}

// ldapValue names the attribute where its value alone would not tell what it is.
func ldapValue(name string, value []byte) []byte {
	if ldapAttributes[name] == keyLDAPDirectory {
		return append([]byte(name+" "), value...)
	}
	return value
}

// maxChildren bounds the elements that are read within one.
const maxChildren = 256

// children gives the elements within an element; what is broken ends them.
func children(element []byte) []asn1.RawValue {
	var outer asn1.RawValue
	if _, err := asn1.Unmarshal(element, &outer); err != nil {
		return nil
	}
	var all []asn1.RawValue
	rest := outer.Bytes
	for len(rest) > 0 && len(all) < maxChildren {
		var one asn1.RawValue
		var err error
		if rest, err = asn1.Unmarshal(rest, &one); err != nil {
			break
		}
		all = append(all, one)
	}
	return all
}
