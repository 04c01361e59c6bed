// Package register reads the list of devices that somebody says they manage.
package register

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	unicode16 "golang.org/x/text/encoding/unicode"

	"airdrift/core/csvtext"
	"airdrift/core/fault"
	"airdrift/core/hwaddr"
)

// Entry is one device of the register. At least one of Name, MAC and Addr is given.
type Entry struct {
	ID          uint64            `json:"id"`
	Name        string            `json:"name,omitempty"`
	MAC         hwaddr.MAC        `json:"mac,omitzero"`
	Addr        netip.Addr        `json:"addr,omitzero"`
	Vendor      string            `json:"vendor,omitempty"`
	Model       string            `json:"model,omitempty"`
	Kind        string            `json:"kind,omitempty"`
	Location    string            `json:"location,omitempty"`
	Responsible string            `json:"responsible,omitempty"`
	Note        string            `json:"note,omitempty"`
	Extra       map[string]string `json:"extra,omitempty"` // columns with a heading of the site's own
}

const (
	// MaxEntries is the most devices one file may hold.
	MaxEntries = 200_000
	// maxField is the longest field kept, in bytes.
	maxField = 1000
	// maxColumns is how many columns a table may have, and maxCells how many of its cells may hold something.
	maxColumns, maxCells = 256, 3_000_000
)

var errColumns = fmt.Errorf("a register has at most %d columns", maxColumns)

// setters put the text of a column into an entry.
var setters = map[string]func(*Entry, string) error{
	"name":        func(e *Entry, text string) error { e.Name = text; return nil },
	"mac":         setMAC,
	"address":     setAddr,
	"vendor":      func(e *Entry, text string) error { e.Vendor = text; return nil },
	"model":       func(e *Entry, text string) error { e.Model = text; return nil },
	"kind":        func(e *Entry, text string) error { e.Kind = text; return nil },
	"location":    func(e *Entry, text string) error { e.Location = text; return nil },
	"responsible": func(e *Entry, text string) error { e.Responsible = text; return nil },
	"note":        func(e *Entry, text string) error { e.Note = text; return nil },
}

// headings are the spellings of each column, in lower case with letters and digits only.
var headings = map[string]string{
	"name": "name", "device": "name", "devicename": "name", "hostname": "name", "host": "name",
	"mac": "mac", "macaddress": "mac", "ethernetaddress": "mac", "physicaladdress": "mac", "hardwareaddress": "mac",
	"address": "address", "ip": "address", "ipaddress": "address", "ipv4": "address", "ipv4address": "address",
	"vendor": "vendor", "maker": "vendor", "manufacturer": "vendor", "make": "vendor", "brand": "vendor",
	"model": "model", "type": "model", "modelname": "model",
	"kind": "kind", "category": "kind", "devicetype": "kind", "devicekind": "kind",
	"location": "location", "room": "location", "place": "location",
	"responsible": "responsible", "owner": "responsible", "contact": "responsible", "managedby": "responsible",
	"note": "note", "notes": "note", "remark": "note", "remarks": "note", "comment": "note", "comments": "note",
}

func setMAC(e *Entry, text string) error {
	mac, err := hwaddr.Parse(text)
	if err == nil && (mac.IsZero() || mac.IsGroup()) {
		err = errors.New("is not the MAC address of one device")
	}
	e.MAC = mac
	return err
}

func setAddr(e *Entry, text string) error {
	addr, err := netip.ParseAddr(text)
	if err != nil {
		return errors.New("not an IP address such as 10.40.1.20: " + quote(text))
	}
	e.Addr = addr.Unmap()
	return nil
}

// Fill makes an entry of the texts of its columns, by their names: name, mac, address, vendor, model, kind, location, responsible and note;
// extra are columns of the site's own. Where anything is wrong the error is a *fault.List with the columns.
func Fill(columns, extra map[string]string) (Entry, error) {
	r := &reader{seen: map[hwaddr.MAC]int{}}
	var record []string
	add := func(of map[string]string, set func(name string) func(*Entry, string) error) {
		for _, name := range slices.Sorted(maps.Keys(of)) {
			r.columns, r.set, record = append(r.columns, name), append(r.set, set(name)), append(record, of[name])
		}
	}
	add(columns, func(name string) func(*Entry, string) error { return setters[name] })
	add(extra, func(string) func(*Entry, string) error { return nil })
	if len(r.columns) > maxColumns {
		return Entry{}, errColumns
	}
	if r.readEntry(0, record); r.faults.Count() > 0 {
		return Entry{}, r.faults.Err()
	}
	return r.entries[0], nil
}

func quote(text string) string {
	if len(text) > 40 {
		text = text[:40] + "…"
	}
	return `"` + text + `"`
}

// reader holds what is known while a file is read.
type reader struct {
	faults  fault.List
	columns []string                     // the heading of each column, as the file has it
	set     []func(*Entry, string) error // nil for a column of the site's own
	seen    map[hwaddr.MAC]int           // to the line where it was met first
	entries []Entry
	cells   int // that hold something

	hopeless bool // the table as a whole cannot be read
}

// Read reads a table with a line of headings: CSV (RFC 4180) in UTF-8 or, with a byte order mark, UTF-16, its columns separated
// by commas, semicolons or tabs; or the first sheet of an Office Open XML workbook (ISO/IEC 29500). Columns may stand in
// any order. It is all or nothing: where anything is wrong the error is a *fault.List with lines and columns, and no
// entry is given.
func Read(name string, in io.Reader) ([]Entry, error) {
	entries, faults := ReadPartial(name, in)
	if err := faults.Err(); err != nil {
		return nil, err
	}
	return entries, nil
}

// ReadPartial is Read that leaves out the lines in which something is wrong, and says what. Where the table as a whole
// cannot be read there are no entries.
func ReadPartial(name string, in io.Reader) ([]Entry, *fault.List) {
	r := &reader{faults: fault.List{Name: name}, seen: map[hwaddr.MAC]int{}}
	r.read(in)
	if r.hopeless {
		r.entries = nil
	}
	return r.entries, &r.faults
}

// table gives the lines of a table, one after the other; io.EOF ends it. The record may be overwritten by the next call.
type table interface {
	next() (line int, record []string, err error)
}

// csvTable is a CSV file.
type csvTable struct{ *csv.Reader }

func (t csvTable) next() (int, []string, error) {
	record, err := t.Read()
	if err != nil {
		return 0, nil, err
	}
	if len(record) > maxColumns {
		return 0, nil, errColumns
	}
	line, _ := t.FieldPos(0)
	return line, record, nil
}

func (r *reader) read(in io.Reader) {
	lines, err := open(in)
	if err != nil {
		r.giveUp(fault.Fault{Why: err.Error()})
		return
	}
	if closer, ok := lines.(io.Closer); ok {
		defer closer.Close()
	}
	if !r.readHeadings(lines) {
		r.hopeless = true
		return
	}
	for {
		line, record, err := lines.next()
		if err == io.EOF {
			break
		}
		if err != nil {
			r.refuseSyntax(err)
			return
		}
		r.readEntry(line, record)
		if r.cells > maxCells {
			r.giveUp(fault.Fault{Line: line, Why: fmt.Sprintf("a register has at most %d cells that hold something: part the file", maxCells)})
			return
		}
		if len(r.entries) > MaxEntries {
			r.giveUp(fault.Fault{Line: line, Why: "a register holds at most 200000 devices: part the file"})
			return
		}
	}
	if len(r.entries) == 0 && r.faults.Count() == 0 {
		r.giveUp(fault.Fault{Why: "the file has headings but no device"})
	}
}

// giveUp notes a fault of the table as a whole.
func (r *reader) giveUp(f fault.Fault) {
	r.hopeless = true
	r.faults.Add(f)
}

// open finds out by its first bytes what a file is.
func open(in io.Reader) (table, error) {
	buffered := bufio.NewReaderSize(in, 1<<16)
	start, _ := buffered.Peek(4)
	switch {
	case bytes.HasPrefix(start, []byte("PK\x03\x04")):
		return openSheet(buffered)
	case bytes.HasPrefix(start, []byte("\xff\xfe")), bytes.HasPrefix(start, []byte("\xfe\xff")):
		decoder := unicode16.UTF16(unicode16.LittleEndian, unicode16.ExpectBOM).NewDecoder()
		buffered = bufio.NewReaderSize(decoder.Reader(buffered), 1<<16)
	case bytes.HasPrefix(start, []byte("\xef\xbb\xbf")):
		_, _ = buffered.Discard(3)
	}
	head, _ := buffered.Peek(4096)
	lines := csv.NewReader(buffered)
	lines.Comma = separator(head)
	lines.FieldsPerRecord = -1
	lines.TrimLeadingSpace = true
	lines.ReuseRecord = true
	return csvTable{lines}, nil
}

// separator finds what parts the columns: whichever is most frequent in the headings.
func separator(start []byte) rune {
	line, _, _ := bytes.Cut(start, []byte("\n"))
	best, most := ',', bytes.Count(line, []byte(","))
	for _, r := range ";\t" {
		if n := bytes.Count(line, []byte(string(r))); n > most {
			best, most = r, n
		}
	}
	return best
}

func (r *reader) refuseSyntax(err error) {
	var syntax *csv.ParseError
	if errors.As(err, &syntax) {
		r.giveUp(fault.Fault{Line: syntax.Line, Why: "not CSV: " + syntax.Err.Error()})
		return
	}
	r.giveUp(fault.Fault{Why: "cannot be read: " + err.Error()})
}

func (r *reader) readHeadings(lines table) bool {
	_, record, err := lines.next()
	if err == io.EOF {
		r.faults.Add(fault.Fault{Why: "the file is empty: want a line of headings such as name,mac,address and a line for each device"})
		return false
	}
	if err != nil {
		r.refuseSyntax(err)
		return false
	}
	first := map[string]int{}
	for i, text := range record {
		field := headings[squash(text)]
		if at, twice := first[field]; twice && field != "" {
			r.faults.Add(fault.Fault{Line: 1, Column: i + 1, Field: text, Why: "means the same as column " + r.columns[at]})
		}
		first[field] = i
		r.columns = append(r.columns, csvtext.Unmark(strings.TrimSpace(text)))
		r.set = append(r.set, setters[field])
	}
	_, byName := first["name"]
	_, byMAC := first["mac"]
	_, byAddr := first["address"]
	if !byName && !byMAC && !byAddr {
		r.faults.Add(fault.Fault{Line: 1, Why: "no column tells which device is meant: want at least one of name, mac and address among the headings"})
	}
	return r.faults.Count() == 0
}

func squash(text string) string {
	return strings.Map(func(c rune) rune {
		if unicode.IsLetter(c) || unicode.IsDigit(c) {
			return unicode.ToLower(c)
		}
		return -1
	}, text)
}

func (r *reader) readEntry(line int, record []string) {
	before := r.faults.Count()
	if len(record) != len(r.columns) {
		r.faults.Add(fault.Fault{Line: line, Why: "has " + count(len(record), "field") + ", and the headings have " + count(len(r.columns), "column")})
		return
	}
	var e Entry
	for i, text := range record {
		text = csvtext.Unmark(strings.TrimSpace(text))
		if text == "" {
			continue
		}
		r.cells++
		if err := r.readField(&e, i, text); err != nil {
			r.faults.Add(fault.Fault{Line: line, Column: i + 1, Field: r.columns[i], Why: err.Error()})
		}
	}
	if first, twice := r.seen[e.MAC]; twice && !e.MAC.IsZero() {
		r.faults.Add(fault.Fault{Line: line, Field: "mac", Why: e.MAC.String() + " stands in line " + strconv.Itoa(first) + " already"})
	} else {
		r.seen[e.MAC] = line
	}
	if e.Name == "" && e.MAC.IsZero() && !e.Addr.IsValid() && r.faults.Count() == before {
		r.faults.Add(fault.Fault{Line: line, Why: "names no device: give a name, a MAC address or an address"})
	}
	if r.faults.Count() == before {
		r.entries = append(r.entries, e)
	}
}

func (r *reader) readField(e *Entry, column int, text string) error {
	if !utf8.ValidString(text) {
		return errors.New("holds bytes that are not UTF-8: save the file as UTF-8")
	}
	if len(text) > maxField {
		return errors.New("is longer than " + count(maxField, "byte"))
	}
	if set := r.set[column]; set != nil {
		return set(e, strings.Clone(text))
	}
	if e.Extra == nil {
		e.Extra = map[string]string{}
	}
	e.Extra[r.columns[column]] = strings.Clone(text)
	return nil
}

func count(n int, thing string) string {
	if n == 1 {
		return "1 " + thing
	}
	return strconv.Itoa(n) + " " + thing + "s"
}
