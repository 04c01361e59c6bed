package identify

import (
	_ "embed"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"sync"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/registry"
	"airdrift/core/yamlfile"
)

//go:embed shares.yaml
var shareFile []byte

// byKind is how strongly each kind is spoken for, in decibans.
type byKind map[string]int

// shares is what makers mostly make, and who makes parts.
type shares struct {
	makers map[string]byKind
	agents map[string]byKind // by enterprise number
	blocks map[string]byKind // by the folded name, without its legal form, that MAC addresses are registered under
	parts  map[string]bool
}

// doubt is taken from what a maker's share of a kind would say, in decibans: it is believed to be the maker by odds, no more.
const doubt = 3

// publicShares are those of the table that ships with the program.
var publicShares = sync.OnceValue(func() *shares {
	s, err := readShares("shares.yaml", shareFile)
	if err != nil {
		panic("identify: the table of shares is broken: " + err.Error())
	}
	return s
})

// readShares reads and checks a table. Where it fails the error is a *fault.List with lines and columns.
func readShares(file string, data []byte) (*shares, error) {
	type row struct {
		Maker      string         `yaml:"maker"`
		Number     uint32         `yaml:"number"`
		Registered string         `yaml:"registered"`
		Kinds      map[string]int `yaml:"kinds"`
	}
	var table struct {
		Makers []row    `yaml:"makers"`
		Agents []row    `yaml:"agents"`
		Blocks []row    `yaml:"blocks"`
		Parts  []string `yaml:"parts"`
	}
	doc, err := yamlfile.Read(file, data, &table)
	if err != nil {
		return nil, err
	}
	s := &shares{map[string]byKind{}, map[string]byKind{}, map[string]byKind{}, map[string]bool{}}
	read := func(name string, rows []row, into map[string]byKind, key func(row) string) {
		for i, r := range rows {
			by, total := byKind{}, 0
			for kind, share := range r.Kinds {
				total += share
				if !slices.Contains(Kinds, kind) || share < 1 || total > 99 {
					doc.Refuse(fmt.Sprintf("$.%s[%d].kinds", name, i), "%d %% of %s: want kinds that there are, and less than 100 in all", share, kind)
					continue
				}
				if strength := ofShare(share); strength > 0 {
					by[kind] = strength
				}
			}
			into[key(r)] = by
		}
	}
	read("makers", table.Makers, s.makers, func(r row) string { return VendorName(r.Maker) })
	read("agents", table.Agents, s.agents, func(r row) string { return strconv.FormatUint(uint64(r.Number), 10) })
	read("blocks", table.Blocks, s.blocks, func(r row) string { return foldedOwn(r.Registered) })
	for _, name := range table.Parts {
		s.parts[VendorName(name)] = true
	}
	return s, doc.Faults.Err()
}

// foldedOwn gives the folded words of an organisation's name without its legal form.
func foldedOwn(organisation string) string { return fold(strings.Join(ownWords(organisation), " ")) }

// ofShare gives what a share in percent says, in decibans: its odds, less the doubt.
func ofShare(percent int) int {
	p := float64(percent) / 100
	return int(math.Floor(10*math.Log10(p/(1-p)))) - doubt
}

// sourceMaker stands for who made a device, as a witness of what it is, apart from what told the maker.
const sourceMaker evidence.Source = "maker"

// shareVotes adds what a maker that is believed mostly makes: of its devices with an agent, or else of those in the block of its MAC address, or else of all.
func (e *Engine) shareVotes(votes []vote, maker Claim, facts []fact) []vote {
	table := publicShares()
	for i := range facts {
		if f := &facts[i]; f.Key == evidence.KeySNMPEnterprise && len(table.agents[f.Value]) > 0 {
			return addShares(votes, table.agents[f.Value], f.Item, "Most devices with an agent of enterprise "+f.Value+" are of this kind.")
		}
	}
	if maker.Value == "" || len(maker.Others) == 0 || len(maker.Others[0].Reasons) == 0 {
		return votes
	}
	for _, reason := range maker.Others[0].Reasons {
		if mac, err := hwaddr.Parse(reason.Item.Value); reason.Rule == ruleMACPrefix && err == nil {
			organisation := registry.Find(mac, e.overlay).Organisation
			if by := table.blocks[foldedOwn(organisation)]; len(by) > 0 {
				return addShares(votes, by, reason.Item, "Most devices with addresses of "+organisation+" are of this kind.")
			}
		}
	}
	return addShares(votes, table.makers[maker.Value], maker.Others[0].Reasons[0].Item, "Most devices of "+maker.Value+" are of this kind.")
}

// addShares adds a vote for each kind.
func addShares(votes []vote, by byKind, item evidence.Item, because string) []vote {
	item.Source = sourceMaker
	for _, kind := range Kinds {
		if strength := by[kind]; strength > 0 {
			votes = append(votes, vote{Kind, kind, "mostly-made", because, strength, &item, 0})
		}
	}
	return votes
}
