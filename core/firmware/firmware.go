// Package firmware compares the versions of firmware that devices of one model have.
package firmware

import (
	"cmp"
	"slices"
	"strings"
)

// Count is how many devices of a model have one version; Version is "" where it is not known.
type Count struct {
	Vendor, Model, Version string
	Devices                int
}

// Version is one version that devices of a model have.
type Version struct {
	Text    string
	Devices int
}

// Spread is how the versions lie over the devices of one model.
type Spread struct {
	Vendor, Model string
	Devices       int
	Versions      []Version // the newest first
	Unknown       int       // devices that do not tell theirs
	Wanted        string    // version that the site wants; "" where it wants none in particular
	Behind        int       // devices with an older version than is wanted, or where none is, than the newest seen here
}

// Newest gives the newest version that was seen; "" where none was.
func (s Spread) Newest() string {
	if len(s.Versions) == 0 {
		return ""
	}
	return s.Versions[0].Text
}

// Spreads puts counts together by model, in order of vendor and model. wanted gives the version that the site wants of a model.
func Spreads(counts []Count, wanted func(vendor, model string) string) []Spread {
	at := map[[2]string]int{}
	var all []Spread
	for _, c := range counts {
		key := [2]string{c.Vendor, c.Model}
		i, known := at[key]
		if !known {
			i = len(all)
			at[key] = i
			all = append(all, Spread{Vendor: c.Vendor, Model: c.Model, Wanted: wanted(c.Vendor, c.Model)})
		}
		all[i].Devices += c.Devices
		if c.Version == "" {
			all[i].Unknown += c.Devices
		} else {
			all[i].Versions = append(all[i].Versions, Version{c.Version, c.Devices})
		}
	}
	for i := range all {
		all[i].settle()
	}
	slices.SortStableFunc(all, func(a, b Spread) int { return cmp.Or(cmp.Compare(a.Vendor, b.Vendor), cmp.Compare(a.Model, b.Model)) })
	return all
}

func (s *Spread) settle() {
	slices.SortStableFunc(s.Versions, func(a, b Version) int { return Compare(b.Text, a.Text) })
	against := cmp.Or(s.Wanted, s.Newest())
	for _, v := range s.Versions {
		if Compare(v.Text, against) < 0 {
			s.Behind += v.Devices
		}
	}
}

// Compare gives which of two versions is older: below 0 where a is. Numbers within them compare as numbers, so that 4.10 is newer than 4.9,
// and what a maker calls a trial of a version is older than that.
func Compare(a, b string) int {
	x, y := pieces(a), pieces(b)
	for i := 0; ; i++ {
		first, second := at(x, i), at(y, i)
		if by := cmp.Or(cmp.Compare(first.class, second.class), cmp.Compare(first.length, second.length), cmp.Compare(first.text, second.text)); by != 0 {
			return by
		}
		if first.class == ended {
			return 0
		}
	}
}

// The classes of pieces, in their order: with a trial a version is older than without, with all else newer.
const (
	trial = iota
	ended
	letters
	number
)

// piece is a part of a version as it is compared.
type piece struct {
	class  int
	length int // of a number, so that it need not be reckoned with
	text   string
}

func at(pieces []string, i int) piece {
	if i >= len(pieces) {
		return piece{class: ended}
	}
	p := pieces[i]
	switch {
	case p[0] >= '0' && p[0] <= '9':
		p = strings.TrimLeft(p, "0")
		return piece{number, len(p), p}
	case slices.Contains(trials, p):
		return piece{class: trial, text: p}
	}
	return piece{class: letters, text: p}
}

// trials mark versions that are not out yet.
var trials = []string{"alpha", "beta", "dev", "pre", "preview", "rc", "snapshot"}

// pieces takes a version apart into runs of digits and of letters, without what stands between them and a "v" before it.
func pieces(version string) (all []string) {
	version = strings.ToLower(strings.TrimSpace(version))
	version = strings.TrimPrefix(strings.TrimPrefix(version, "version "), "v")
	kind := func(c byte) int {
		switch {
		case c >= '0' && c <= '9':
			return 1
		case c >= 'a' && c <= 'z' || c >= 0x80:
			return 2
		}
		return 0
	}
	for i := 0; i < len(version); {
		end := i + 1
		for end < len(version) && kind(version[end]) == kind(version[i]) {
			end++
		}
		if kind(version[i]) != 0 {
			all = append(all, version[i:end])
		}
		i = end
	}
	return all
}
