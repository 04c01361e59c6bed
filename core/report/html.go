package report

import (
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"strconv"
	"strings"
	"time"

	"airdrift/core/plain"
	"airdrift/core/wording"
)

// Paper is the size of a page.
type Paper string

// The sizes there are.
const (
	A4     Paper = "A4"
	Letter Paper = "Letter"
)

//go:embed page.css
var style string

//go:embed page.html
var pageText string

var page = template.Must(template.New("page").Funcs(template.FuncMap{
	"cell": cellText, "clean": func(text string) string { return plain.Text(text, false) }, "numeric": isNumeric, "share": share, "tone": tone,
}).Parse(pageText))

// shown is what the page is made of.
type shown struct {
	Title, Language string
	Style           template.CSS
	Blocks          []shownBlock
}

type shownBlock struct {
	Heading string
	Level   int
	Text    string
	Figures []shownFigure
	Bars    *shownBars
	Cells   *shownCells
	Spreads *shownSpreads
	Table   *shownTable
}

type shownFigure struct{ Value, Label string }

type shownBars struct {
	Title  string
	Legend []shownPart
	Bars   []shownBar
}

type shownPart struct{ Label, Tone string }

type shownBar struct {
	Label string
	Total int
	Parts []shownShare
}

type shownShare struct {
	Tone  string
	Value int
	Share float64 // of the longest bar, in percent
}

type shownCells struct {
	Title, Text string
	Legend      []shownPart
	Cells       []Cell
}

type shownSpreads struct {
	Title, Text, Of, Middle string
	Marks                   []shownMark
	Rows                    []shownSpread
}

// shownMark is a place on a scale, in percent, and what is there.
type shownMark struct {
	At    float64
	Label string
}

// shownSpread is how values lie: where the picture begins and how long its parts are, in percent.
type shownSpread struct {
	Label                          string
	Count                          int
	Whisker, Long, Box, Wide, Tick float64
	Middle                         string
}

type shownTable struct {
	Headings []string
	Weights  []string // widths in percent
	Rows     [][]any
}

// WriteHTML writes a report as one page that needs nothing else: it prints on paper of the given size with headings repeated, no row cut and pages
// numbered.
func WriteHTML(out io.Writer, r Report, language string, paper Paper) error {
	title, blocks := document(r, language)
	words := wording.In(language)
	s := shown{Title: title, Language: language, Style: template.CSS(fmt.Sprintf("@page { size: %s }\n", paper) + style)} //nolint:gosec // paper is one of ours, and the style comes with the program
	for _, b := range blocks {
		one := shownBlock{Heading: b.heading, Level: b.level, Text: b.text}
		for _, f := range b.figures {
			one.Figures = append(one.Figures, shownFigure{f.value, f.label})
		}
		one.Bars = b.bars.shown()
		one.Spreads = b.spreads.shown()
		if b.cells != nil {
			one.Cells = &shownCells{Title: b.cells.title, Text: b.cells.text, Cells: b.cells.cells}
			for _, c := range b.cells.legend {
				one.Cells.Legend = append(one.Cells.Legend, shownPart{c.label, string(c.state)})
			}
		}
		if b.table != nil {
			one.Table = b.table.shown(words)
		}
		s.Blocks = append(s.Blocks, one)
	}
	return page.Execute(out, s)
}

func (p *bars) shown() *shownBars {
	if p == nil {
		return nil
	}
	out := &shownBars{Title: p.title}
	for i, part := range p.parts {
		out.Legend = append(out.Legend, shownPart{part, p.tones[i]})
	}
	longest := 1
	for _, b := range p.bars {
		longest = max(longest, total(b.values))
	}
	for _, b := range p.bars {
		one := shownBar{Label: b.label, Total: total(b.values)}
		for i, v := range b.values {
			if v > 0 {
				one.Parts = append(one.Parts, shownShare{p.tones[i], v, 100 * float64(v) / float64(longest)})
			}
		}
		out.Bars = append(out.Bars, one)
	}
	return out
}

func (p *spreads) shown() *shownSpreads {
	if p == nil {
		return nil
	}
	out := &shownSpreads{Title: p.title, Text: p.text, Of: p.of, Middle: p.middle}
	at := func(value float64) float64 { return 100 * p.scale.Place(value) }
	for _, mark := range p.scale.Marks() {
		out.Marks = append(out.Marks, shownMark{at(mark), milliseconds(mark)})
	}
	for _, row := range p.rows {
		out.Rows = append(out.Rows, shownSpread{
			Label: row.Name, Count: row.Count, Whisker: at(row.Least), Long: at(row.Most) - at(row.Least), Box: at(row.Low), Wide: at(row.High) - at(row.Low), Tick: at(row.Middle), Middle: milliseconds(row.Middle),
		})
	}
	return out
}

func (t *table) shown(words *wording.Catalogue) *shownTable {
	out := &shownTable{Rows: t.rows}
	var weights float64
	for _, c := range t.columns {
		weights += c.weight
	}
	for _, c := range t.columns {
		out.Headings = append(out.Headings, words.Columns[c.key])
		out.Weights = append(out.Weights, strconv.FormatFloat(100*c.weight/weights, 'f', 1, 64))
	}
	return out
}

// cellText writes what is in a cell of a table for people.
func cellText(value any) string {
	switch v := value.(type) {
	case nil:
		return ""
	case time.Time:
		return day(v)
	case date:
		if time.Time(v).IsZero() {
			return ""
		}
		return time.Time(v).UTC().Format(time.DateOnly)
	case string:
		return plain.Text(v, false)
	case float64:
		return strings.TrimSuffix(strconv.FormatFloat(v, 'f', 1, 64), ".0")
	}
	return fmt.Sprint(value)
}

func isNumeric(value any) bool {
	switch value.(type) {
	case int, uint64, float64:
		return true
	}
	return false
}

func share(percent float64) string { return strconv.FormatFloat(percent, 'f', 2, 64) }

func tone(name string) string { return strings.ReplaceAll(name, " ", "-") }
