package identify

import (
	"cmp"
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
var versionForm = regexp.MustCompile(`^[vV]?\.?((?:[A-Z]{1,6}\.)?\d{1,5}(?:\.\d{1,9}){1,5}(?:\([\w.]+\)\w*)?(?:[-_+]?[a-zA-Z]\w{0,11})?(?:[-._]\w{1,12}){0,3})$`)

// looseVersion is what may stand behind a word that says that it is a version: a number, and what belongs to it.
var looseVersion = regexp.MustCompile(`^[vV]?((?:[A-Z]{1,6}[.-]?)?\d[\w.()-]{0,23})$`)

// gluedVersion is a version with its word before it in one, as "Ver.1.22" and "FW:2.0".
var gluedVersion = regexp.MustCompile(`^([A-Za-z][A-Za-z/]*?)[.:]?(\d.*)$`)

// dateForm is a date that looks like a version.
var dateForm = regexp.MustCompile(`^(?:(?:0[1-9]|[12]\d|3[01])\.(?:0[1-9]|1[0-2])\.(?:(?:19|20)?\d{2})|(?:19|20)\d{2}\.\d{2}\.\d{2})$`)

// Words before a version that say that it is the device's own, and such as say that it is something else's.
var (
	ownVersions   = []string{"firmware", "fw", "f/w", "version", "ver", "ver.", "software", "sw", "s/w", "release", "rel", "rev", "revision", "v", "v.", "r", "build", "system"}
	otherVersions = []string{"kernel", "linux", "hw", "h/w", "hardware", "rom", "boot", "bootloader", "bootrom", "bootr", "bios", "u-boot", "uboot", "snmp", "http", "https", "mib", "protocol", "windows",
		"vxworks", "net+os", "openssl", "tls", "ssl", "php", "java", "lwip", "ip", "ipv4", "api", "schema", "kernel:", "hw:", "rom:", "asterisk", "python", "usb", "bluetooth", "docsis", "http/", "upnp", "dlna"}
)

// layoutKeys are the facts that are written so. Titles and names are for people.
var layoutKeys = []string{"snmp.sysDescr", "sip.agent", "sip.server", "ftp.greeting", "text.greeting", "text.telnet", "lldp.text", "cdp.text", "rtsp.server", "ssh.greeting"}

// typeVotes finds what the descriptions that name their maker say of the product: the first word behind with letters and digits is its type, and what follows is
// its version.
func typeVotes(votes []vote, facts []fact) []vote {
	for i := range facts {
		f := &facts[i]
		versions := slices.Contains(layoutKeys, f.Key)
		if !versions && !slices.Contains(typeKeys, f.Key) || f.about.By == evidence.ThePage && isAbout(f.folded()) {
			continue
		}
		product, brand := productIn(votes, &f.Item), brandIn(votes, f)
		if !strings.ContainsAny(product, digits) && brand >= 0 {
			if kind := typeIn(f.Value, brand); kind != "" {
				product = kind
				votes = append(votes, vote{Model, product, "type-behind-maker", "It stands behind the maker's name in the form of a type.", fromType, &f.Item, 0})
			}
		}
		if !versions || slices.ContainsFunc(votes, func(v vote) bool { return v.attribute == Firmware && v.item == &f.Item }) {
			continue
		}
		from := brand
		if at := strings.Index(f.Value, product); product != "" && at >= 0 {
			from = at + len(product)
		}
		version, strength := "", 0
		switch {
		case from >= 0:
			if version, strength = versionIn(f.Value[from:]); version == "" && brand >= 0 && brand < from {
				version, strength = versionIn(f.Value[brand:])
			}
		case slices.Contains(ownDescriptions, f.Key) && !describesSystem(f.lower):
			if version, strength = versionIn(f.Value); strength < versionWithWord {
				version = ""
			}
			strength = versionAlone
		}
		if version != "" {
			votes = append(votes, vote{Firmware, version, ruleVersion, "The text names the product and gives its version.", strength, &f.Item, 0})
		}
	}
	return votes
}

// typeKeys are further facts in which makers put the type behind their name; ownDescriptions those that describe the device even where nothing in them is known.
var (
	typeKeys        = []string{"http.title", "http.realm", "cdp.platform", "rtsp.realm", "upnp.text", "upnp.model"}
	ownDescriptions = []string{"snmp.sysDescr", "lldp.text"}
)

// describesSystem reports whether a description is of a system rather than of a device.
func describesSystem(lower string) bool {
	first, _, _ := strings.Cut(lower, " ")
	return slices.Contains(otherVersions, first) || unameForm.MatchString(lower) || strings.HasPrefix(lower, "hardware:")
}

// fromType is what a type behind the maker's name adds for the model, in decibans.
const fromType = 6

// brandIn gives where in a text the name of its maker ends; -1 where it names none.
func brandIn(votes []vote, f *fact) int {
	for i := range votes {
		v := &votes[i]
		if v.item != &f.Item || v.attribute != Vendor || v.rule != ruleNamesMaker && v.rule != ruleBeginsWithMaker {
			continue
		}
		first, _, _ := strings.Cut(strings.ToLower(v.value), " ")
		if at := strings.Index(f.lower, first); at >= 0 {
			return at + len(first)
		}
		return 0
	}
	return -1
}

// typeForm is a type: letters and digits, with what parts them.
var (
	typeForm   = regexp.MustCompile(`^[A-Za-z]{1,8}[-_]?[A-Za-z]{0,4}\d[\w+-]*(?:/[A-Z]\w{0,5})?$|^\d{2,4}[-_]?[A-Za-z][\w+-]*$|^\d{3,4}-\d{1,3}[A-Za-z][\w+-]*$`)
	numberForm = regexp.MustCompile(`^\d{3,4}\+?$`)
	plainType  = regexp.MustCompile(`(?i)^(?:\d+-?port|802\.?\w*|ipv[46]|v\d+\w*|rev\w*\d+|r\d|\d+(?:st|nd|rd|th|x|g|ghz|mhz|mb|gb|gbe|bit|kva?|w|v|va|a|u|p)|x86\w*|i[3-6]86|arm\w*|mips\w*|amd64|sha\d+|http\d?|sip\d?|layer-?\d|l[234]|utf-?8|ios-?\d+|mp[34]|h26[45]|id\d+)$`)
)

// maxTypeWords is how many words behind a maker's name are looked at for a type.
const maxTypeWords = 10

// typeIn finds the type in a text that names its maker: behind the name, or else from the beginning on; "" where none is.
func typeIn(text string, maker int) string {
	return cmp.Or(typeBehind(text, maker), typeBehind(text, 0))
}

// typeBehind finds the type behind a place in a text; "" where none is. A number alone is one directly behind the maker's name.
func typeBehind(text string, from int) string {
	words := strings.FieldsFunc(text[from:], func(r rune) bool { return strings.ContainsRune(" \t\r\n,;|<>[]()\"':=", r) })
	for i, word := range words[:min(len(words), maxTypeWords)] {
		if !strings.ContainsAny(word, digits) || i > 0 && isVersionWord(strings.Trim(words[i-1], ".")) {
			continue
		}
		word = versionBehind.ReplaceAllString(strings.Trim(word, ".-_/"), "")
		if len(word) >= 3 && typeForm.MatchString(word) && !plainType.MatchString(word) && !isVersion(word) || i == 0 && from > 0 && numberForm.MatchString(word) {
			return word
		}
	}
	return ""
}

// fieldVotes reads the descriptions that have fields.
func fieldVotes(votes []vote, facts []fact) []vote {
	for i := range facts {
		if slices.Contains(layoutKeys, facts[i].Key) {
			votes = fieldsOf(votes, &facts[i])
		}
	}
	return votes
}

// fieldsOf reads fields with their names. A single one counts where its value has a number.
func fieldsOf(votes []vote, f *fact) []vote {
	marks := strings.Count(f.Value, ":") + strings.Count(f.Value, "=")
	if marks == 0 {
		return votes
	}
	software := false
	before := len(votes)
	fields := fieldName.FindAllStringSubmatchIndex(f.Value, maxFields)
	for i, field := range fields {
		called := letterDigits(f.Value[field[2]:field[3]])
		attribute, known := fieldNames[called]
		end := len(f.Value)
		if i+1 < len(fields) {
			end = fields[i+1][0]
		}
		value := f.Value[field[1]:min(end, field[1]+maxFieldValue)]
		if mark := strings.IndexAny(value, fieldMarks); mark >= 0 {
			value = value[:mark]
		}
		value = strings.ToValidUTF8(strings.Trim(value, " .-/"), "")
		if !known || value == "" || isPlaceholder(value) || marks < 2 && !strings.ContainsAny(value, digits) {
			continue
		}
		switch attribute {
		case Vendor:
			value = VendorName(value)
		case Firmware, Serial:
			value = firstWithDigit(value)
		}
		if value != "" {
			software = software || attribute == Firmware && strings.HasPrefix(called, "s")
			votes = append(votes, vote{attribute, value, "field-of-description", "A field of its description says so by its name.", fromField, &f.Item, 0})
		}
	}
	if software { // where a text tells of both, what is called firmware starts the software
		votes = append(votes[:before], slices.DeleteFunc(votes[before:], func(v vote) bool { return v.attribute == Firmware && isStarter(f.Value, v.value) })...)
	}
	return votes
}

// firstWithDigit gives the first word that has a digit, without what is put before versions.
func firstWithDigit(text string) string {
	for word := range strings.FieldsSeq(text) {
		if strings.ContainsAny(word, digits) {
			return strings.TrimLeft(word, "vV.")
		}
	}
	return ""
}

// starterField is a field of what starts a device's software.
var starterField = regexp.MustCompile(`(?i)\b(?:FW|firmware)(?: ?version| ?rev\w*)?\s*[:=]\s*[vV]?\.?(\S+)`)

// isStarter reports whether a version stands in a field of what starts a device's software.
func isStarter(text, version string) bool {
	found := starterField.FindStringSubmatch(text)
	return found != nil && strings.HasPrefix(found[1], version)
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

// versionIn finds a version in what follows a product's name or its maker's: the one with a word before it that says so, or else the first.
func versionIn(text string) (version string, strength int) {
	words := strings.FieldsFunc(text, func(r rune) bool { return strings.ContainsRune(" \t\r\n,;/|<>[]\"'", r) })
	alone := ""
	for i, word := range words {
		if !strings.ContainsAny(word, digits) {
			continue
		}
		bare := strings.TrimRight(strings.TrimLeft(word, "(:="), ".):")
		marked, before := "", i-1
		if i > 0 {
			marked = strings.ToLower(strings.TrimRight(strings.TrimLeft(words[i-1], "(-"), ":="))
		}
		if glued := gluedVersion.FindStringSubmatch(bare); glued != nil && !slices.Contains(otherVersions, marked) && isVersionWord(glued[1]) {
			marked, bare = strings.ToLower(glued[1]), glued[2]
		}
		form := versionForm.FindStringSubmatch(bare)
		if before > 0 && slices.Contains(ownVersions, marked) && slices.Contains(otherVersions, strings.ToLower(strings.Trim(words[before-1], "(:="))) {
			continue
		}
		if form == nil && alone == "" && slices.Contains(ownVersions, marked) && len(marked) > 1 {
			form = looseVersion.FindStringSubmatch(bare)
		}
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
