// Package lease reads what DHCP servers have given out, in the files that the usual servers keep: dnsmasq, ISC dhcpd and
// Kea. Leases tell names, and the MAC addresses of devices beyond routers.
package lease

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/csv"
	"errors"
	"io"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/fault"
	"airdrift/core/hwaddr"
)

// Lease is one address that was given to somebody.
type Lease struct {
	Addr   netip.Addr
	MAC    hwaddr.MAC // zero where the server does not tell
	Name   string     // that the client gave of itself; "" where it gave none
	Client string     // client identifier as the file has it
	Since  time.Time  // UTC; zero where it was always so
	Until  time.Time  // UTC; zero where it does not end
}

// MaxLeases is the most that one file may hold.
const MaxLeases = 200_000

// unknownSince is how long before a file is read a lease is taken to have begun of which the file does not say it.
const unknownSince = 24 * time.Hour

// Read reads a file of leases at a time; its form is told from its content. Of one address there may be several, one after the other, as the
// servers append; one that was renewed is one lease. Where it fails the error is a *fault.List with lines.
func Read(name string, data []byte, now time.Time) ([]Lease, error) {
	r := &reader{faults: fault.List{Name: name}, at: map[netip.Addr]int{}}
	switch {
	case bytes.HasPrefix(bytes.TrimSpace(data), []byte("address,hwaddr,")):
		r.kea(data)
	case bytes.Contains(data, []byte("\nlease ")) || bytes.HasPrefix(data, []byte("lease ")):
		r.isc(data)
	default:
		r.dnsmasq(data)
	}
	if err := r.faults.Err(); err != nil {
		return nil, err
	}
	r.leases = slices.DeleteFunc(r.leases, Lease.isEmpty)
	for i := range r.leases {
		if l := &r.leases[i]; l.Since.IsZero() && !l.Until.IsZero() {
			l.Since = now.Add(-unknownSince).UTC()
		}
	}
	if len(r.leases) == 0 {
		r.faults.Add(fault.Fault{Why: "there is no lease in it: want the lease file of dnsmasq, of ISC dhcpd (dhcpd.leases), or of Kea (CSV)"})
		return nil, r.faults.Err()
	}
	sortLeases(r.leases)
	return r.leases, nil
}

func sortLeases(leases []Lease) {
	slices.SortStableFunc(leases, func(a, b Lease) int { return cmp.Or(a.Addr.Compare(b.Addr), a.Since.Compare(b.Since)) })
}

// isEmpty reports whether a lease has no time in it.
func (l Lease) isEmpty() bool {
	return !l.Since.IsZero() && !l.Until.IsZero() && !l.Since.Before(l.Until)
}

// isOfSame reports whether two leases are of one client, as far as is known.
func (l Lease) isOfSame(other Lease) bool {
	if l.MAC.IsZero() && other.MAC.IsZero() {
		return l.Client == other.Client
	}
	return l.MAC == other.MAC
}

// renews reports whether a lease goes on where another one has not ended.
func (l Lease) renews(before Lease) bool {
	return l.isOfSame(before) && (before.Until.IsZero() || l.Since.IsZero() || !l.Since.After(before.Until))
}

// cut ends a lease at a time, where it has not ended before.
func (l *Lease) cut(at time.Time) {
	if l.Until.IsZero() || l.Until.After(at) {
		l.Until = at
	}
}

// Over lays fresh leases over those that are known. What is known of an address stays for the time before; a lease that was renewed is one. Where
// they are too many those go that ended first.
func Over(known, fresh []Lease) []Lease {
	first := map[netip.Addr]int{} // the earliest of the fresh ones
	all := slices.Clone(fresh)
	sortLeases(all)
	for i, l := range all {
		if _, is := first[l.Addr]; !is {
			first[l.Addr] = i
		}
	}
	for _, before := range known {
		i, is := first[before.Addr]
		if !is {
			all = append(all, before)
			continue
		}
		switch begin := &all[i]; {
		case begin.Since.IsZero(): // it was always so
		case begin.renews(before):
			if before.Since.Before(begin.Since) {
				begin.Since = before.Since
			}
		default:
			if before.cut(begin.Since); !before.isEmpty() {
				all = append(all, before)
			}
		}
	}
	if len(all) > MaxLeases {
		slices.SortStableFunc(all, func(a, b Lease) int { return b.end().Compare(a.end()) })
		all = all[:MaxLeases]
	}
	sortLeases(all)
	return all
}

// end gives when a lease ends, as times are compared.
func (l Lease) end() time.Time {
	if l.Until.IsZero() {
		return time.Unix(1<<40, 0)
	}
	return l.Until
}

type reader struct {
	faults fault.List
	leases []Lease
	at     map[netip.Addr]int // the latest of each address
}

func (r *reader) refuse(line int, field, why string) {
	r.faults.Add(fault.Fault{Line: line, Field: field, Why: why})
}

func (r *reader) add(line int, l Lease) {
	if at, known := r.at[l.Addr]; known {
		before := &r.leases[at]
		switch {
		case l.renews(*before) && !before.Since.IsZero():
			before.Until, before.Client = l.Until, cmp.Or(l.Client, before.Client)
			before.Name = cmp.Or(l.Name, before.Name)
			return
		case l.Since.IsZero():
			*before = l
			return
		}
		before.cut(l.Since)
	}
	if len(r.leases) == MaxLeases {
		if r.faults.Count() == 0 {
			r.refuse(line, "", "there are more leases than "+strconv.Itoa(MaxLeases))
		}
		return
	}
	r.at[l.Addr] = len(r.leases)
	r.leases = append(r.leases, l)
}

// end ends the lease of an address that is no longer held.
func (r *reader) end(l Lease) {
	if at, known := r.at[l.Addr]; known && !l.Until.IsZero() && l.isOfSame(r.leases[at]) {
		r.leases[at].cut(l.Until)
	}
}

// dnsmasq reads lines of time, MAC, address, name and client (dnsmasq(8), dhcp-leasefile). Lines of IPv6 have an identifier in
// the place of the MAC.
func (r *reader) dnsmasq(data []byte) {
	line := 0
	for text := range bytes.Lines(data) {
		line++
		fields := strings.Fields(string(text))
		if len(fields) == 0 || fields[0] == "duid" {
			continue
		}
		if len(fields) < 4 {
			r.refuse(line, "", "want a time, a MAC address, an address, a name and a client")
			continue
		}
		seconds, err := strconv.ParseInt(fields[0], 10, 64)
		if err != nil {
			r.refuse(line, fields[0], "is not the time at which a lease ends, in seconds since 1970")
			continue
		}
		l := Lease{Name: known(fields[3]), Until: until(seconds)}
		if l.Addr, err = netip.ParseAddr(fields[2]); err != nil {
			r.refuse(line, fields[2], "is not an IP address")
			continue
		}
		if l.Addr.Is4() {
			if l.MAC, err = hwaddr.Parse(strings.TrimPrefix(fields[1], "01-")); err != nil {
				r.refuse(line, fields[1], "is not a MAC address")
				continue
			}
		}
		if len(fields) > 4 {
			l.Client = known(fields[4])
		}
		r.add(line, l)
	}
}

func known(text string) string {
	if text == "*" {
		return ""
	}
	return evidence.Clean([]byte(text))
}

func until(seconds int64) time.Time {
	if seconds <= 0 {
		return time.Time{}
	}
	return time.Unix(seconds, 0).UTC()
}

// isc reads blocks of dhcpd.leases(5).
func (r *reader) isc(data []byte) {
	var current *Lease
	start, line := 0, 0
	active := true
	for text := range bytes.Lines(data) {
		line++
		statement, _, _ := strings.Cut(string(text), "#")
		statement = strings.TrimSuffix(strings.TrimSpace(statement), ";")
		words := strings.Fields(statement)
		switch {
		case len(words) == 0:
		case words[0] == "lease" && len(words) >= 3 && words[2] == "{":
			addr, err := netip.ParseAddr(words[1])
			if err != nil {
				r.refuse(line, words[1], "is not an IP address")
				continue
			}
			current, start, active = &Lease{Addr: addr}, line, true
		case current == nil:
		case words[0] == "}":
			if active {
				r.add(start, *current)
			} else {
				r.end(*current)
			}
			current = nil
		default:
			active = r.iscField(line, current, words, statement) && active
		}
	}
	if current != nil {
		r.refuse(start, current.Addr.String(), "this lease has no end: is the file cut off?")
	}
}

// iscField takes one statement of a lease, and reports whether the lease still holds after it.
func (r *reader) iscField(line int, l *Lease, words []string, statement string) (holds bool) {
	switch {
	case words[0] == "hardware" && len(words) == 3 && words[1] == "ethernet":
		mac, err := hwaddr.Parse(words[2])
		if err != nil {
			r.refuse(line, words[2], "is not a MAC address")
		}
		l.MAC = mac
	case words[0] == "client-hostname":
		l.Name = quoted(statement)
	case words[0] == "uid":
		l.Client = quoted(statement)
	case words[0] == "binding" && len(words) == 3:
		return words[2] == "active"
	case words[0] == "starts":
		l.Since = r.iscTime(line, words)
	case words[0] == "ends":
		l.Until = r.iscTime(line, words)
	}
	return true
}

// iscTime reads the time of a statement: a day of the week, a date and a time in UTC, or the word epoch and seconds; never is none.
func (r *reader) iscTime(line int, words []string) time.Time {
	switch {
	case len(words) == 4:
		at, err := time.Parse("2006/01/02 15:04:05", words[2]+" "+words[3])
		if err != nil {
			r.refuse(line, words[2]+" "+words[3], "is not a time such as 2026/11/25 08:00:00")
		}
		return at
	case len(words) == 3 && words[1] == "epoch":
		if seconds, err := strconv.ParseInt(words[2], 10, 64); err == nil {
			return until(seconds)
		}
	}
	return time.Time{}
}

func quoted(statement string) string {
	_, rest, _ := strings.Cut(statement, `"`)
	if end := strings.LastIndexByte(rest, '"'); end >= 0 {
		rest = rest[:end]
	}
	return evidence.Clean([]byte(rest))
}

// kea reads the file of the memfile backend, with a heading in the first line.
func (r *reader) kea(data []byte) {
	lines := csv.NewReader(bufio.NewReader(bytes.NewReader(data)))
	lines.FieldsPerRecord = -1
	heading, err := lines.Read()
	if err != nil {
		r.refuse(1, "", "the heading cannot be read")
		return
	}
	column := map[string]int{}
	for i, name := range heading {
		column[name] = i
	}
	for {
		row, err := lines.Read()
		if errors.Is(err, io.EOF) {
			return
		}
		var broken *csv.ParseError
		if errors.As(err, &broken) {
			r.refuse(broken.Line, "", "is not CSV: "+broken.Err.Error())
			return
		}
		if err != nil {
			r.refuse(0, "", err.Error())
			return
		}
		line, _ := lines.FieldPos(0)
		field := func(name string) string {
			if at, has := column[name]; has && at < len(row) {
				return row[at]
			}
			return ""
		}
		r.keaRow(line, field)
	}
}

func (r *reader) keaRow(line int, field func(string) string) {
	l := Lease{Addr: addrOf(field("address")), Name: known(strings.TrimSuffix(field("hostname"), ".")), Client: known(field("client_id"))}
	if !l.Addr.IsValid() {
		r.refuse(line, field("address"), "is not an IP address")
		return
	}
	if text := field("hwaddr"); text != "" {
		mac, err := hwaddr.Parse(text)
		if err != nil {
			r.refuse(line, text, "is not a MAC address")
			return
		}
		l.MAC = mac
	}
	if seconds, err := strconv.ParseInt(field("expire"), 10, 64); err == nil {
		l.Until = until(seconds)
		if lifetime, err := strconv.ParseInt(field("valid_lifetime"), 10, 64); err == nil && lifetime > 0 && lifetime < seconds {
			l.Since = until(seconds - lifetime)
		}
	}
	if state := field("state"); state != "" && state != "0" { // declined or reclaimed
		r.end(l)
		return
	}
	r.add(line, l)
}

func addrOf(text string) netip.Addr {
	a, err := netip.ParseAddr(text)
	if err != nil {
		return netip.Addr{}
	}
	return a
}

// Items makes evidence of a lease that was read at a time.
func (l Lease) Items(at time.Time) []evidence.Item {
	var items []evidence.Item
	add := func(key, value string) {
		if value != "" {
			items = append(items, evidence.Item{Source: evidence.SourceLease, Key: key, Value: value, At: at})
		}
	}
	add(evidence.KeyLeaseName, l.Name)
	if !l.MAC.IsZero() {
		add(evidence.KeyLeaseMAC, l.MAC.String())
	}
	add(evidence.KeyLeaseClient, l.Client)
	if !l.Until.IsZero() {
		add(evidence.KeyLeaseUntil, l.Until.Format(time.RFC3339))
	}
	return items
}

// Holds reports whether a lease is that of a sighting: of the address, unless its MAC was seen and is another, and while the
// lease lasted.
func (l Lease) Holds(s evidence.Sighting) bool {
	return l.Addr == s.Addr && (s.MAC.IsZero() || l.MAC.IsZero() || l.MAC == s.MAC) && !s.FirstAt.Before(l.Since) && (l.Until.IsZero() || s.FirstAt.Before(l.Until))
}

// Index finds the lease of a sighting.
type Index map[netip.Addr][]Lease

// NewIndex indexes leases by their addresses.
func NewIndex(leases []Lease) Index {
	x := make(Index, len(leases))
	for _, l := range leases {
		x[l.Addr] = append(x[l.Addr], l)
	}
	return x
}

// Attach puts what the lease of a sighting tells behind its facts; has is false where it has none.
func (x Index) Attach(s evidence.Sighting, facts func() ([]evidence.Item, error)) (items []evidence.Item, has bool, err error) {
	leases := x[s.Addr]
	at := slices.IndexFunc(leases, func(l Lease) bool { return l.Holds(s) })
	if at < 0 {
		return nil, false, nil
	}
	l := leases[at]
	if items, err = facts(); err != nil {
		return nil, false, err
	}
	return evidence.Merge(slices.Clip(items), l.Items(s.FirstAt), evidence.Asked), true, nil
}
