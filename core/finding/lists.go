package finding

import (
	"bytes"
	_ "embed"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"airdrift/core/csvtext"
	"airdrift/core/fault"
	"airdrift/core/identify"
)

// End says from which day on a model or system is no longer supported.
type End struct {
	Pattern string // of "maker model" or of a system; * stands for any text, capitals aside
	Date    time.Time
	Source  string
}

// EndColumns are the headings of a list of ends of support.
var EndColumns = []string{"pattern", "date", "source"}

// Bounds of lists.
const (
	maxListed  = 10_000
	maxPattern = 200
	maxStars   = 8
)

// ReadEnds reads a list of ends of support: CSV (RFC 4180) with the headings of EndColumns. It is all or nothing: where anything is wrong the error is a
// *fault.List with lines.
func ReadEnds(name string, in io.Reader) ([]End, error) {
	var ends []End
	err := readList(name, in, EndColumns, func(row []string) (field, why string) {
		pattern, source := strings.TrimSpace(row[0]), strings.TrimSpace(row[2])
		switch {
		case pattern == "":
			return "pattern", "it is empty"
		case len(pattern) > maxPattern || strings.Count(pattern, "*") > maxStars:
			return "pattern", fmt.Sprintf("%.40q: at most %d bytes and %d * are taken", pattern, maxPattern, maxStars)
		case strings.Trim(pattern, "* ") == "":
			return "pattern", fmt.Sprintf("%q matches everything", pattern)
		case source == "":
			return "source", "it is empty: say who says so"
		}
		date, err := time.Parse(time.DateOnly, strings.TrimSpace(row[1]))
		if err != nil {
			return "date", fmt.Sprintf("%.40q: want a date such as 2026-01-31", row[1])
		}
		ends = append(ends, End{pattern, date, source})
		return "", ""
	})
	if err != nil {
		return nil, err
	}
	return ends, nil
}

// FactoryAddress is an address that devices of a maker come with; of any maker where Vendor is empty.
type FactoryAddress struct {
	Vendor string
	Addr   netip.Addr
}

//go:embed factory.csv
var factoryTable []byte

// madeWith are the addresses that makers are known to set their devices to.
var madeWith = sync.OnceValue(func() map[netip.Addr][]string {
	by := map[netip.Addr][]string{}
	err := readList("factory.csv", bytes.NewReader(factoryTable), []string{"vendor", "address"}, func(row []string) (field, why string) {
		a, err := netip.ParseAddr(row[1])
		if err != nil {
			return "address", err.Error()
		}
		by[a] = append(by[a], row[0])
		return "", ""
	})
	if err != nil {
		panic("finding: the table of factory addresses is broken: " + err.Error())
	}
	return by
})

func factoryAddress(c *caseOf) {
	vendor := c.believed(identify.Vendor)
	if slices.Contains([]string{"router", "firewall", "modem"}, c.believed(identify.Kind)) {
		return // where a router stands is the site's plan, whatever its maker's was
	}
	for _, a := range c.Device.Addrs {
		makers := madeWith()[a]
		ours := slices.Contains(c.words("addresses"), a.String())
		if ours || slices.Contains(makers, vendor) && vendor != "" {
			c.remark(a.String(), nil, "address", a.String())
		}
	}
}

// readList reads a CSV with known headings, line by line; take says what is wrong with one.
func readList(name string, in io.Reader, columns []string, take func(row []string) (field, why string)) error {
	faults := &fault.List{Name: name}
	table := csv.NewReader(in)
	table.FieldsPerRecord = -1
	head, err := table.Read()
	if err != nil || !slices.Equal(lowered(head), columns) {
		faults.Add(fault.Fault{Line: 1, Why: "the first line has to be " + strings.Join(columns, ",")})
		return faults.Err()
	}
	for n := 0; ; n++ {
		row, err := table.Read()
		if errors.Is(err, io.EOF) {
			return faults.Err()
		}
		line := 0
		if err == nil {
			line, _ = table.FieldPos(0)
		}
		var broken *csv.ParseError
		switch {
		case errors.As(err, &broken):
			faults.Add(fault.Fault{Line: broken.Line, Column: broken.Column, Why: broken.Err.Error()})
			return faults.Err()
		case err != nil:
			return err
		case n >= maxListed:
			faults.Add(fault.Fault{Line: line, Why: fmt.Sprintf("at most %d lines are read", maxListed)})
			return faults.Err()
		case len(row) != len(columns):
			faults.Add(fault.Fault{Line: line, Why: fmt.Sprintf("it has %d fields, and the headings are %d", len(row), len(columns))})
			continue
		}
		for i := range row {
			row[i] = csvtext.Unmark(row[i])
		}
		if field, why := take(row); why != "" {
			faults.Add(fault.Fault{Line: line, Field: field, Why: why})
		}
	}
}

func lowered(head []string) []string {
	out := make([]string, len(head))
	for i, h := range head {
		out[i] = strings.ToLower(strings.TrimSpace(strings.TrimPrefix(h, "\ufeff")))
	}
	return out
}

// ends are the ends of support, ready to be looked up.
type ends []readyEnd

type readyEnd struct {
	End
	pieces []string // of the pattern between its stars, in lower case
}

func endsOf(list []End) ends {
	all := make(ends, len(list))
	for i, e := range list {
		all[i] = readyEnd{e, strings.Split(strings.ToLower(e.Pattern), "*")}
	}
	return all
}

// metEnd is an end that a device meets, with what of it does.
type metEnd struct {
	End
	what string
}

// of gives the ends that a device meets.
func (all ends) of(vendor, model, system string) (met []metEnd) {
	if len(all) == 0 {
		return nil
	}
	texts := []string{}
	if model != "" {
		texts = append(texts, strings.TrimSpace(vendor+" "+model))
	}
	if system != "" {
		texts = append(texts, system)
	}
	for _, text := range texts {
		lower := strings.ToLower(text)
		for _, e := range all {
			if e.matches(lower) {
				met = append(met, metEnd{e.End, text})
				break
			}
		}
	}
	return met
}

func (e readyEnd) matches(text string) bool {
	first, last := e.pieces[0], e.pieces[len(e.pieces)-1]
	if len(e.pieces) == 1 {
		return text == first
	}
	if len(text) < len(first)+len(last) || !strings.HasPrefix(text, first) || !strings.HasSuffix(text, last) {
		return false
	}
	rest := text[len(first) : len(text)-len(last)]
	for _, piece := range e.pieces[1 : len(e.pieces)-1] {
		_, behind, found := strings.Cut(rest, piece)
		if !found {
			return false
		}
		rest = behind
	}
	return true
}
