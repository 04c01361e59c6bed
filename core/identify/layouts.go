package identify

import (
	"regexp"
	"slices"
	"strings"

	"airdrift/core/evidence"
)

// Descriptions of devices are written in a few layouts: fields with their names, as in "MODEL: SB8200; SW_REV: 9.1", and words in the order of maker, model
// and version. What follows reads them whoever wrote them.

// fieldNames say what fields tell of, by their names in lower case without what is no letter or digit.
var fieldNames = map[string]Attribute{
	"vendor": Vendor, "manufacturer": Vendor, "maker": Vendor, "mfg": Vendor, "mfr": Vendor, "hersteller": Vendor,
	"model": Model, "mdl": Model, "modelname": Model, "modelnumber": Model, "productname": Model, "producttype": Model, "mn": Model,
	"firmware": Firmware, "fw": Firmware, "fwver": Firmware, "fwversion": Firmware, "fwrev": Firmware, "firmwareversion": Firmware, "firmwarever": Firmware, "firmwarerevision": Firmware,
	"swrev": Firmware, "sw": Firmware, "swversion": Firmware, "swver": Firmware, "softwareversion": Firmware, "softwarerevision": Firmware, "af1": Firmware,
	"sn": Serial, "serial": Serial, "serialnumber": Serial, "serialno": Serial, "serno": Serial, "seriennummer": Serial,
}

// What a field with its name, a version with a word before it, and one that merely follows the product's name add, in decibans.
const (
	fromField       = 11
	versionWithWord = 9
	versionAlone    = 7
)

// fieldName is the name of a field, of one word, or of two that go together.
var fieldName = regexp.MustCompile(`(?i)(?:^|[\s;,(<\[|])((?:serial|firmware|software|fw|sw|model|product|part|hardware|hw) (?:number|no\.?|version|ver\.?|revision|rev\.?|name|type)|[a-z][a-z0-9_/.]{0,18})\s*[:=]`)

// A field's value ends at a mark, or where the next field begins, and is no longer than maxFieldValue.
const (
	fieldMarks    = ";,|<>[]()"
	maxFieldValue = 48
	maxFields     = 24
)

// versionForm is a version: numbers with points between, and what belongs to them.
var versionForm = regexp.MustCompile(`^[vV]?((?:[A-Z]{1,3}\.)?\d{1,5}(?:\.\d{1,9}){1,5}(?:\([\w.]+\)\w*)?(?:[-_+]?[a-zA-Z]\w{0,11})?(?:[-._]\d{1,6})?)$`)

// gluedVersion is a version with its word before it in one, as "Ver.1.22" and "FW:2.0".
var gluedVersion = regexp.MustCompile(`^([A-Za-z][A-Za-z/]*?)[.:]?(\d.*)$`)

// dateForm is a date that looks like a version.
var dateForm = regexp.MustCompile(`^(?:\d{2}\.\d{2}\.(?:\d{2}|\d{4})|(?:19|20)\d{2}\.\d{2}\.\d{2})$`)

// Words before a version that say that it is the device's own, and such as say that it is something else's.
var (
	ownVersions   = []string{"firmware", "fw", "f/w", "version", "ver", "ver.", "software", "sw", "s/w", "release", "rel", "rev", "revision", "v", "v.", "r", "build", "system"}
	otherVersions = []string{"kernel", "linux", "hw", "h/w", "hardware", "rom", "boot", "bootloader", "bootrom", "bootr", "bios", "u-boot", "uboot", "snmp", "http", "https", "mib", "protocol", "windows",
		"vxworks", "net+os", "openssl", "tls", "ssl", "php", "java", "lwip", "ip", "ipv4", "api", "schema", "kernel:", "hw:", "rom:", "asterisk", "python", "usb", "bluetooth", "docsis", "http/", "upnp", "dlna"}
)

// layoutKeys are the facts that are written so. Titles and names are for people.
var layoutKeys = []string{"snmp.sysDescr", "sip.agent", "sip.server", "ftp.greeting", "text.greeting", "text.telnet", "lldp.text", "cdp.text", "rtsp.server", "ssh.greeting"}

// layoutVotes reads descriptions by their layout.
func layoutVotes(votes []vote, facts []fact) []vote {
	for i := range facts {
		f := &facts[i]
		if !slices.Contains(layoutKeys, f.Key) {
			continue
		}
		before := len(votes)
		votes = fieldVotes(votes, f)
		if slices.ContainsFunc(votes[before:], func(v vote) bool { return v.attribute == Firmware }) {
			continue
		}
		said := slices.ContainsFunc(votes[:before], func(v vote) bool { return v.attribute == Firmware && v.item == &f.Item })
		if name := productIn(votes[:before], &f.Item); name != "" && !said {
			if version, strength := versionIn(f.Value, name); version != "" {
				votes = append(votes, vote{Firmware, version, "version-of-product", "The text names the product and gives its version.", strength, &f.Item, 0})
			}
		}
	}
	return votes
}

// fieldVotes reads fields with their names. A text with a single one is no such layout.
func fieldVotes(votes []vote, f *fact) []vote {
	if strings.Count(f.Value, ":")+strings.Count(f.Value, "=") < 2 {
		return votes
	}
	fields := fieldName.FindAllStringSubmatchIndex(f.Value, maxFields)
	for i, field := range fields {
		attribute, known := fieldNames[letterDigits(f.Value[field[2]:field[3]])]
		end := len(f.Value)
		if i+1 < len(fields) {
			end = fields[i+1][0]
		}
		value := f.Value[field[1]:min(end, field[1]+maxFieldValue)]
		if mark := strings.IndexAny(value, fieldMarks); mark >= 0 {
			value = value[:mark]
		}
		value = strings.ToValidUTF8(strings.Trim(value, " .-/"), "")
		if !known || value == "" || isPlaceholder(value) {
			continue
		}
		switch attribute {
		case Vendor:
			value = VendorName(value)
		case Firmware, Serial:
			value, _, _ = strings.Cut(value, " ")
			value = strings.TrimLeft(value, "vV.")
		}
		if value != "" {
			votes = append(votes, vote{attribute, value, "field-of-description", "A field of its description says so by its name.", fromField, &f.Item, 0})
		}
	}
	return votes
}

// isVersion reports whether a word is a version, with its word before it or without.
func isVersion(word string) bool {
	glued := gluedVersion.FindStringSubmatch(word)
	return versionForm.MatchString(word) || glued != nil && isVersionWord(glued[1]) && versionForm.MatchString(glued[2])
}

// isVersionWord reports whether a word says whose version follows.
func isVersionWord(word string) bool {
	word = strings.ToLower(word)
	return slices.Contains(ownVersions, word) || slices.Contains(otherVersions, word)
}

// isPlaceholder reports whether a value stands for none.
func isPlaceholder(value string) bool {
	return slices.Contains([]string{"none", "n/a", "na", "unknown", "null", "default", "0", "-"}, strings.ToLower(value))
}

// letterDigits gives a field's name without what parts its words.
func letterDigits(name string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r >= 'A' && r <= 'Z':
			return r | 0x20
		case r >= 'a' && r <= 'z' || r >= '0' && r <= '9':
			return r
		}
		return -1
	}, name)
}

// productIn gives the name of a product that a text has been found to tell; "" where it tells none.
func productIn(votes []vote, item *evidence.Item) string {
	for i := range votes {
		if v := &votes[i]; v.item == item && v.attribute == Model && strings.Contains(item.Value, v.value) {
			return v.value
		}
	}
	return ""
}

// versionIn finds the version of the product that a text names: the one with a word before it that says so, or else the first behind the name.
func versionIn(text, product string) (version string, strength int) {
	at := strings.Index(text, product)
	words := strings.FieldsFunc(text[at+len(product):], func(r rune) bool { return strings.ContainsRune(" \t\r\n,;/|<>[]\"'", r) })
	alone := ""
	for i, word := range words {
		bare := strings.TrimRight(strings.TrimLeft(word, "(:="), ".):")
		marked := ""
		if i > 0 {
			marked = strings.ToLower(strings.TrimRight(strings.TrimLeft(words[i-1], "(-"), ":="))
		}
		if glued := gluedVersion.FindStringSubmatch(bare); glued != nil && !slices.Contains(otherVersions, marked) && isVersionWord(glued[1]) {
			marked, bare = strings.ToLower(glued[1]), glued[2]
		}
		form := versionForm.FindStringSubmatch(bare)
		switch {
		case form == nil || slices.Contains(otherVersions, marked):
		case slices.Contains(ownVersions, marked):
			return form[1], versionWithWord
		case alone == "" && !dateForm.MatchString(bare):
			alone = form[1]
		}
	}
	if alone != "" {
		return alone, versionAlone
	}
	return "", 0
}
