package store

import (
	"bytes"
	"crypto/sha256"
	"maps"
	"regexp"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"
	"gorm.io/gorm"

	"airdrift/core/hwaddr"
	"airdrift/core/identify"
	"airdrift/core/inventory"
	"airdrift/core/ledger"
)

// wordsRow is what a device is found by in words.
type wordsRow struct {
	SiteID   uint64
	DeviceID uint64
	Own      []byte // words that hardly another device has
	Shared   []byte // hash of those that others of its like have as well
}

func (wordsRow) TableName() string { return "device_words" }

// sharedRow is the words that many devices have, stored once.
type sharedRow struct {
	SiteID uint64
	Hash   []byte
	Words  []byte
}

func (sharedRow) TableName() string { return "shared_words" }

const (
	// maxWords bounds the words of a device of either sort, in bytes.
	maxWords = 8000
	// ownDigits is how many digits a word has at least that hardly another device has: addresses, keys, serial numbers.
	ownDigits = 4
)

// wordsOf gives every word that a person may look for, in lower case and each once: those that are the device's own, and those that it shares
// with others, in alphabetical order.
func wordsOf(d ledger.Device) (own, shared string) {
	texts, likely := []string{d.Identity.Of(identify.Name), d.Note}, []string{}
	for _, f := range inventory.Fields {
		switch f.Search {
		case inventory.OwnWords:
			texts = append(texts, f.Text(f.Of(d)))
		case inventory.SharedWords:
			likely = append(likely, f.Text(f.Of(d)))
		}
	}
	for _, a := range d.Addrs {
		texts = append(texts, a.String())
	}
	for _, m := range d.MACs {
		texts = append(texts, m.String())
	}
	if e := d.Entry; e != nil {
		texts = append(texts, e.Location, e.Note)
		likely = append(likely, e.Vendor, e.Model)
	}
	for _, item := range d.Items {
		likely = append(likely, item.Value)
	}
	ours, others := map[string]bool{}, map[string]bool{}
	for _, text := range texts {
		for word := range strings.FieldsSeq(strings.ToLower(text)) {
			ours[word] = true
		}
	}
	for _, text := range likely {
		for word := range strings.FieldsSeq(strings.ToLower(text)) {
			switch {
			case ours[word]:
			case isOwnWord(word):
				ours[word] = true
			default:
				others[word] = true
			}
		}
	}
	return joinWords(ours), joinWords(others)
}

func isOwnWord(word string) bool {
	digits := 0
	for i := range len(word) {
		if '0' <= word[i] && word[i] <= '9' {
			digits++
		}
	}
	return digits >= ownDigits
}

func joinWords(words map[string]bool) string {
	var text strings.Builder
	for _, word := range slices.Sorted(maps.Keys(words)) {
		if text.Len()+len(word) < maxWords {
			text.WriteString(word)
			text.WriteByte(' ')
		}
	}
	return text.String()
}

// wordBook gathers by which words devices are found.
type wordBook struct {
	site   uint64
	rows   []wordsRow
	shared map[[16]byte][]byte // by their hash
}

func newWordBook(site uint64, devices int) *wordBook {
	return &wordBook{site: site, rows: make([]wordsRow, 0, devices), shared: map[[16]byte][]byte{}}
}

// add takes in the words of a device, whose number may be given later.
func (b *wordBook) add(d ledger.Device) {
	ours, others := wordsOf(d)
	sum := sha256.Sum256([]byte(others))
	hash := [16]byte(sum[:16])
	if b.shared[hash] == nil {
		b.shared[hash] = []byte(others)
	}
	b.rows = append(b.rows, wordsRow{SiteID: b.site, DeviceID: d.ID, Own: []byte(ours), Shared: hash[:]})
}

// write writes them over what there was.
func (b *wordBook) write(tx *gorm.DB) error {
	texts := make([]sharedRow, 0, len(b.shared))
	for hash, words := range b.shared {
		texts = append(texts, sharedRow{b.site, slices.Clone(hash[:]), words})
	}
	if err := createManyOver(tx, texts, func(r sharedRow) int { return len(r.Words) + 50 }); err != nil {
		return err
	}
	return createManyOver(tx, b.rows, func(r wordsRow) int { return len(r.Own) + 80 })
}

// wordQuery looks for devices that have all of some words.
type wordQuery struct {
	site  uint64
	words []wordSought
	parts []idRange // of the devices of the site, to be looked through beside each other
	found []uint64  // the devices that have them; nil where they are more than are named
}

// wordSought is one word, and the shared words in which it stands.
type wordSought struct {
	likes  []string // one of which it is like
	hashes [][]byte
	many   bool // it stands in more of them than are named
}

const (
	// maxFound is up to how many devices that have all words are named one by one, and fewFound up to how many are read by their numbers.
	maxFound, fewFound = 8000, 500
	// atOnce is into how many parts the devices of a site are split that are looked through, and leastPart from how many numbers on.
	atOnce, leastPart = 2, 5000
	// maxHashes is in how many shared words a word is looked for by their hashes.
	maxHashes = 1000
)

// macPart is a MAC address, or the beginning or another part of one, in pairs of digits with dashes or colons between, or in fours with dots.
var macPart = regexp.MustCompile(`^[-:]?[0-9a-f]{2}([-:][0-9a-f]{2})*[-:]?[0-9a-f]?$|^[0-9a-f]{4}(\.[0-9a-f]{4})*(\.[0-9a-f]{1,4})?$`)

// asMAC gives what may be a MAC address, or a part of one, in the form in which they are kept; "" for what is none.
func asMAC(word string) string {
	if mac, err := hwaddr.Parse(word); err == nil {
		return mac.String()
	}
	switch {
	case !macPart.MatchString(word):
		return ""
	case !strings.Contains(word, "."):
		return strings.ReplaceAll(word, "-", ":")
	}
	digits := strings.ReplaceAll(word, ".", "")
	pairs := slices.Collect(slices.Chunk([]byte(digits), 2))
	return string(bytes.Join(pairs, []byte(":")))
}

// findWords looks for the words of a text; nil where there are none.
func findWords(db *gorm.DB, site uint64, text string) (*wordQuery, error) {
	q := &wordQuery{site: site}
	for word := range strings.FieldsSeq(strings.ToLower(text)) {
		sought := wordSought{likes: []string{word}}
		if mac := asMAC(word); mac != "" && mac != word {
			sought.likes = append(sought.likes, mac)
		}
		where, args := sought.like("words")
		if err := db.Model(&sharedRow{}).Where("site_id = ?", site).Where(where, args...).Limit(maxHashes+1).Pluck("hash", &sought.hashes).Error; err != nil {
			return nil, err
		}
		sought.many = len(sought.hashes) > maxHashes
		q.words = append(q.words, sought)
	}
	if len(q.words) == 0 {
		return nil, nil
	}
	var err error
	if q.parts, err = partsOf(db, site); err != nil {
		return nil, err
	}
	return q, q.find(db)
}

// idRange is a range of numbers of devices, both ends in it.
type idRange struct{ first, last uint64 }

// partsOf parts the devices of a site into ranges that are looked through beside each other.
func partsOf(db *gorm.DB, site uint64) ([]idRange, error) {
	var all struct{ First, Last uint64 }
	err := db.Model(&wordsRow{}).Select("COALESCE(MIN(device_id), 0) AS first, COALESCE(MAX(device_id), 0) AS last").Where("site_id = ?", site).Scan(&all).Error
	if all.Last-all.First < leastPart {
		return []idRange{{all.First, all.Last}}, err
	}
	step := (all.Last-all.First)/atOnce + 1
	var parts []idRange
	for first := all.First; first <= all.Last; first += step {
		parts = append(parts, idRange{first, min(first+step-1, all.Last)})
	}
	return parts, err
}

// each looks through the parts beside each other.
func (q *wordQuery) each(db *gorm.DB, look func(part int, rows *gorm.DB) error) error {
	g := errgroup.Group{}
	for i, part := range q.parts {
		g.Go(func() error {
			return look(i, q.where(db.Model(&wordsRow{})).Where("device_words.device_id BETWEEN ? AND ?", part.first, part.last))
		})
	}
	return g.Wait()
}

// find names the devices that have all words, where they are not too many.
func (q *wordQuery) find(db *gorm.DB) error {
	found := make([][]uint64, len(q.parts))
	err := q.each(db, func(part int, rows *gorm.DB) error {
		return rows.Limit(maxFound+1).Pluck("device_words.device_id", &found[part]).Error
	})
	if all := slices.Concat(found...); err == nil && len(all) <= maxFound {
		q.found = append([]uint64{}, all...)
	}
	return err
}

// like gives the condition that a column is like the word.
func (w wordSought) like(column string) (where string, args []any) {
	parts := make([]string, len(w.likes))
	for i, text := range w.likes {
		parts[i] = column + " LIKE ?"
		args = append(args, []byte("%"+likeEscape.Replace(text)+"%"))
	}
	return "(" + strings.Join(parts, " OR ") + ")", args
}

// where lets devices through that have all words.
func (q *wordQuery) where(rows *gorm.DB) *gorm.DB {
	rows = rows.Where("device_words.site_id = ?", q.site)
	for _, w := range q.words {
		own, args := w.like("device_words.own")
		switch {
		case w.many:
			shared, more := w.like("s.words")
			own += " OR EXISTS (SELECT 1 FROM shared_words s WHERE s.site_id = device_words.site_id AND s.hash = device_words.shared AND " + shared + ")"
			args = append(args, more...)
		case len(w.hashes) > 0: // first, as it costs less
			own = "device_words.shared IN ? OR " + own
			args = append([]any{w.hashes}, args...)
		}
		rows = rows.Where("("+own+")", args...)
	}
	return rows
}

// count gives how many devices have all words.
func (q *wordQuery) count(db *gorm.DB) (found int64, err error) {
	if q.found != nil {
		return int64(len(q.found)), nil
	}
	counts := make([]int64, len(q.parts))
	err = q.each(db, func(part int, rows *gorm.DB) error { return rows.Count(&counts[part]).Error })
	for _, n := range counts {
		found += n
	}
	return found, err
}

// among lets only those of the devices through that have all words.
func (q *wordQuery) among(devices *gorm.DB) *gorm.DB {
	if q.found != nil {
		column := "id"
		if len(q.found) > fewFound {
			column = "id + 0" // which keeps the database from reading each of them: an index in the order of the list has their numbers
		}
		return devices.Where(column+" IN ?", append(slices.Clip(q.found), 0)) // never an empty list
	}
	rows := devices.Session(&gorm.Session{NewDB: true}).Model(&wordsRow{}).Select("1")
	return devices.Where("EXISTS (?)", q.where(rows).Where("device_words.device_id = devices.id"))
}
