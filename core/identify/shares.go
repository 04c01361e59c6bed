package identify

import (
	_ "embed"
	"fmt"
	"math"
	"slices"
	"sync"

	"airdrift/core/evidence"
	"airdrift/core/yamlfile"
)

//go:embed shares.yaml
var shareFile []byte

// shares is what makers mostly make, and who makes parts.
type shares struct {
	kinds map[string]map[string]int // by maker and kind, in decibans
	parts map[string]bool
}

// doubt is taken from what a maker's share of a kind would say, in decibans: it is believed to be the maker by odds, no more.
const doubt = 3

// publicShares are those of the table that ships with the program.
var publicShares = sync.OnceValue(func() *shares {
	var table struct {
		Makers []struct {
			Maker string         `yaml:"maker"`
			Kinds map[string]int `yaml:"kinds"`
		} `yaml:"makers"`
		Parts []string `yaml:"parts"`
	}
	doc, err := yamlfile.Read("shares.yaml", shareFile, &table)
	if err != nil {
		panic("identify: the table of shares is broken: " + err.Error())
	}
	s := &shares{kinds: map[string]map[string]int{}, parts: map[string]bool{}}
	for i, m := range table.Makers {
		by, total := map[string]int{}, 0
		for kind, share := range m.Kinds {
			total += share
			if !slices.Contains(Kinds, kind) || share < 1 || total > 99 {
				doc.Refuse(fmt.Sprintf("$.makers[%d].kinds", i), "%d %% of %s", share, kind)
				continue
			}
			if strength := ofShare(share); strength > 0 {
				by[kind] = strength
			}
		}
		s.kinds[VendorName(m.Maker)] = by
	}
	for _, name := range table.Parts {
		s.parts[VendorName(name)] = true
	}
	if err := doc.Faults.Err(); err != nil {
		panic("identify: the table of shares is broken: " + err.Error())
	}
	return s
})

// ofShare gives what a share in percent says, in decibans: its odds, less the doubt.
func ofShare(percent int) int {
	p := float64(percent) / 100
	return int(math.Floor(10*math.Log10(p/(1-p)))) - doubt
}

// sourceMaker stands for who made a device, as a witness of what it is, apart from what told the maker.
const sourceMaker evidence.Source = "maker"

// shareVotes adds what a maker that is believed mostly makes.
func shareVotes(votes []vote, maker Claim) []vote {
	if maker.Value == "" || len(maker.Others) == 0 || len(maker.Others[0].Reasons) == 0 {
		return votes
	}
	item := maker.Others[0].Reasons[0].Item
	item.Source = sourceMaker
	by := publicShares().kinds[maker.Value]
	for _, kind := range Kinds {
		if strength := by[kind]; strength > 0 {
			because := fmt.Sprintf("Most devices of %s are of this kind.", maker.Value)
			votes = append(votes, vote{Kind, kind, "mostly-made", because, strength, &item, 0})
		}
	}
	return votes
}
