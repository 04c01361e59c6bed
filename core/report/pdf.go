package report

import (
	"fmt"
	"io"
	"strings"

	"codeberg.org/go-pdf/fpdf"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"

	"airdrift/core/plain"
	"airdrift/core/wording"
)

// Measures of a page, in millimetres, and of its text, in points.
const (
	margin     = 14.0
	footer     = 16.0
	bodySize   = 9.0
	rowSize    = 7.0
	lineHeight = 1.32  // of the size of the text
	perPoint   = 0.353 // millimetres
	mostLines  = 12    // of a cell; what is longer is cut
)

// inks are the colours of the parts of pictures.
var inks = map[string][3]int{
	"unmanaged": {179, 84, 30}, "managed": {47, 111, 143}, "missing": {122, 59, 143}, "set aside": {138, 146, 153}, "finding": {163, 40, 47},
	string(Seen): {47, 111, 143}, string(Silent): {151, 183, 199}, string(Register): {122, 59, 143}, string(Dynamic): {228, 232, 234}, string(Conflict): {163, 40, 47}, string(Free): {255, 255, 255},
}

// paperWriter is a document of PDF while it is written.
type paperWriter struct {
	*fpdf.Fpdf
	words         *wording.Catalogue
	width, bottom float64 // between the margins, and how far down a page is written
}

// WritePDF writes a report as PDF on paper of the given size. Its fonts have Latin, Greek and Cyrillic letters; others are shown as boxes.
func WritePDF(out io.Writer, r Report, language string, paper Paper) error {
	title, blocks := document(r, language)
	doc := fpdf.New("P", "mm", string(paper), "")
	doc.AddUTF8FontFromBytes("go", "", goregular.TTF)
	doc.AddUTF8FontFromBytes("go", "B", gobold.TTF)
	doc.SetMargins(margin, margin, margin)
	doc.SetAutoPageBreak(false, 0)
	doc.SetTitle(inPDF(title), true)
	doc.SetCreationDate(r.Made)
	doc.SetModificationDate(r.Made)
	doc.AliasNbPages("{pages}")
	width, height := doc.GetPageSize()
	w := &paperWriter{doc, wording.In(language), width - 2*margin, height - footer}
	doc.SetFooterFunc(func() {
		doc.SetY(height - 11)
		doc.SetFont("go", "", 7)
		doc.SetTextColor(90, 90, 90)
		text := wording.Fill(w.words.Report["page"], map[string]string{"page": fmt.Sprint(doc.PageNo()), "pages": "{pages}"})
		doc.CellFormat(w.width, 4, clip(title, 90)+"   "+text, "", 0, "R", false, 0, "")
		doc.SetTextColor(0, 0, 0)
	})
	doc.AddPage()
	w.line(title, "B", 17)
	doc.Ln(1)
	for i, b := range blocks {
		w.block(b, blocks[i+1:])
	}
	return doc.Output(out)
}

// inPDF writes a text with what the format's library can hold: characters beyond the first plane of Unicode are shown as boxes, too.
func inPDF(text string) string {
	return strings.Map(func(r rune) rune {
		if r > 0xffff {
			return '□'
		}
		return r
	}, plain.Text(text, false))
}

func clip(text string, most int) string {
	runes := []rune(inPDF(text))
	if len(runes) > most {
		return string(runes[:most-1]) + "…"
	}
	return string(runes)
}

// room begins a new page where less than so much is left of this one.
func (w *paperWriter) room(height float64) {
	if w.GetY()+height > w.bottom {
		w.AddPage()
	}
}

// line writes text over as many lines as it takes.
func (w *paperWriter) line(text, weight string, size float64) {
	w.SetFont("go", weight, size)
	high := size * perPoint * lineHeight
	for _, line := range w.split(text, w.width) {
		w.room(high)
		w.CellFormat(w.width, high, line, "", 1, "L", false, 0, "")
	}
}

// split breaks text into lines of a width, and words that are too long for one.
func (w *paperWriter) split(text string, width float64) []string {
	text = inPDF(text)
	if text == "" {
		return []string{""}
	}
	fits := func(text string) bool { return w.GetStringWidth(text) <= width }
	var lines []string
	line := ""
	for word := range strings.FieldsSeq(text) {
		joined := strings.TrimLeft(line+" "+word, " ")
		if fits(joined) {
			line = joined
			continue
		}
		if line != "" {
			lines = append(lines, line)
		}
		line = ""
		for _, piece := range pieces(word) { // one piece alone where the word fits
			if line != "" && !fits(line+piece) {
				lines, line = append(lines, line), ""
			}
			for line += piece; !fits(line); { // longer than a line by itself
				cut := w.fitting(line, width)
				lines, line = append(lines, line[:cut]), line[cut:]
			}
		}
	}
	return append(lines, line)
}

// pieces takes a word apart where a line may end within it: behind the signs that names and addresses are put together by.
func pieces(word string) (all []string) {
	from := 0
	for i, r := range word {
		if strings.ContainsRune("-/:,._@+", r) {
			all = append(all, word[from:i+1])
			from = i + 1
		}
	}
	return append(all, word[from:])
}

// fitting gives how many bytes of a text fit a width, at least those of its first character.
func (w *paperWriter) fitting(text string, width float64) int {
	cut := 0
	for i, r := range text {
		next := i + len(string(r))
		if cut > 0 && w.GetStringWidth(text[:next]) > width {
			break
		}
		cut = next
	}
	return cut
}

func (w *paperWriter) block(b block, next []block) {
	switch {
	case b.heading != "":
		size := map[int]float64{1: 13, 2: 10.5}[b.level]
		w.Ln(size * 0.3)
		w.room(size*perPoint*lineHeight + keptWith(next))
		w.line(b.heading, "B", size)
		w.Ln(1)
	case b.text != "":
		w.line(b.text, "", bodySize)
		w.Ln(0.8)
	case b.figures != nil:
		w.figures(b.figures)
	case b.bars != nil:
		w.bars(b.bars)
	case b.cells != nil:
		w.cells(b.cells)
	case b.spreads != nil:
		w.spreads(b.spreads)
	case b.table != nil:
		w.table(b.table)
	}
}

// keptWith gives how much of what follows stays on the page of its heading.
func keptWith(next []block) float64 {
	const some = 22
	switch {
	case len(next) > 0 && next[0].bars != nil:
		return 10 + 5*float64(len(next[0].bars.bars))
	case len(next) > 0 && next[0].heading != "":
		return some + 10
	}
	return some
}

func (w *paperWriter) figures(figures []figure) {
	w.room(14)
	y, x := w.GetY()+1, margin
	widths := w.figureWidths(figures)
	for i, f := range figures {
		w.SetXY(x, y)
		w.SetFont("go", "B", 15)
		w.CellFormat(widths[i], 7, f.value, "", 0, "L", false, 0, "")
		w.SetXY(x, y+7)
		w.SetFont("go", "", 7)
		w.CellFormat(widths[i], 3.5, f.label, "", 0, "L", false, 0, "")
		x += widths[i]
	}
	w.SetXY(margin, y+13)
}

// figureWidths gives each figure the room that its label takes, and a like part of what is left.
func (w *paperWriter) figureWidths(figures []figure) []float64 {
	w.SetFont("go", "", 7)
	widths, left := make([]float64, len(figures)), w.width
	for i, f := range figures {
		widths[i] = w.GetStringWidth(f.label) + 2
		left -= widths[i]
	}
	for i := range widths {
		widths[i] += max(0, left) / float64(len(figures))
	}
	return widths
}

func (w *paperWriter) ink(name string) {
	c := inks[name]
	w.SetFillColor(c[0], c[1], c[2])
}

func (w *paperWriter) bars(p *bars) {
	const high, label, number = 4.6, 42.0, 12.0
	w.room(8 + high*float64(len(p.bars)))
	w.Ln(2)
	w.SetFont("go", "B", bodySize)
	w.CellFormat(w.width, 5, p.title, "", 1, "L", false, 0, "")
	w.SetFont("go", "", rowSize)
	for i, part := range p.parts {
		w.ink(p.tones[i])
		w.Rect(w.GetX(), w.GetY()+0.8, 2.4, 2.4, "F")
		w.SetX(w.GetX() + 3.4)
		w.CellFormat(w.GetStringWidth(part)+5, 4, part, "", 0, "L", false, 0, "")
	}
	if len(p.parts) > 0 {
		w.Ln(5)
	}
	longest := 1
	for _, b := range p.bars {
		longest = max(longest, total(b.values))
	}
	for _, b := range p.bars {
		w.CellFormat(label, high, clip(b.label, 30), "", 0, "L", false, 0, "")
		x, y := w.GetX(), w.GetY()
		for i, v := range b.values {
			long := (w.width - label - number) * float64(v) / float64(longest)
			w.ink(p.tones[i])
			w.Rect(x, y+0.8, long, high-1.6, "F")
			x += long
		}
		w.SetX(margin + w.width - number)
		w.CellFormat(number, high, fmt.Sprint(total(b.values)), "", 1, "R", false, 0, "")
	}
}

func (w *paperWriter) spreads(p *spreads) {
	const high, label, number, end = 4.6, 42.0, 18.0, 4.0
	w.room(18 + high*float64(len(p.rows)))
	w.Ln(2)
	w.SetFont("go", "B", bodySize)
	w.CellFormat(w.width, 5, p.title, "", 1, "L", false, 0, "")
	w.SetFont("go", "", rowSize)
	from, long := margin+label, w.width-label-2*number-end
	x := func(value float64) float64 { return from + long*p.scale.Place(value) }
	top := w.GetY()
	for _, mark := range p.scale.Marks() {
		w.SetXY(x(mark)-10, top)
		w.CellFormat(20, 4, milliseconds(mark), "", 0, "C", false, 0, "")
	}
	w.SetXY(margin+w.width-2*number, top)
	w.CellFormat(number, 4, p.middle, "", 0, "R", false, 0, "")
	w.CellFormat(number, 4, p.of, "", 1, "R", false, 0, "")
	w.SetDrawColor(200, 204, 208)
	w.SetLineWidth(0.1)
	for _, mark := range p.scale.Marks() {
		w.Line(x(mark), top+4, x(mark), top+4+high*float64(len(p.rows)))
	}
	for _, row := range p.rows {
		w.CellFormat(label, high, clip(row.Name, 30), "", 0, "L", false, 0, "")
		y := w.GetY()
		w.ink("set aside")
		w.Rect(x(row.Least), y+high/2-0.3, max(0.4, x(row.Most)-x(row.Least)), 0.6, "F")
		w.ink("managed")
		w.Rect(x(row.Low), y+0.9, max(0.8, x(row.High)-x(row.Low)), high-1.8, "F")
		w.SetFillColor(20, 22, 24)
		w.Rect(x(row.Middle)-0.25, y+0.6, 0.5, high-1.2, "F")
		w.SetX(margin + w.width - 2*number)
		w.CellFormat(number, high, milliseconds(row.Middle), "", 0, "R", false, 0, "")
		w.CellFormat(number, high, fmt.Sprint(row.Count), "", 1, "R", false, 0, "")
	}
	w.Ln(1)
	w.line(p.text, "", rowSize)
}

func (w *paperWriter) cells(p *cells) {
	const across, side = 64, 2.4
	rows := (len(p.cells) + across - 1) / across
	w.room(20 + side*float64(rows))
	w.Ln(2)
	w.SetFont("go", "B", bodySize)
	w.CellFormat(w.width, 5, clip(p.title, 100), "", 1, "L", false, 0, "")
	w.SetFont("go", "", rowSize)
	w.SetDrawColor(200, 204, 208)
	for _, c := range p.legend {
		w.ink(string(c.state))
		w.Rect(w.GetX(), w.GetY()+0.8, 2.2, 2.2, "FD")
		w.SetX(w.GetX() + 3.2)
		w.CellFormat(w.GetStringWidth(c.label)+5, 4, c.label, "", 0, "L", false, 0, "")
	}
	w.Ln(5)
	y := w.GetY()
	w.SetLineWidth(0.1)
	for i, c := range p.cells {
		w.ink(string(c))
		w.Rect(margin+side*float64(i%across), y+side*float64(i/across), side-0.3, side-0.3, "FD")
	}
	w.SetXY(margin, y+side*float64(rows)+1)
	w.line(p.text, "", rowSize)
}

// table writes a table with its headings on each page it goes over, and no row cut.
func (w *paperWriter) table(t *table) {
	const pad = 1.2
	high := rowSize * perPoint * lineHeight
	var weights float64
	for _, c := range t.columns {
		weights += c.weight
	}
	widths := make([]float64, len(t.columns))
	for i, c := range t.columns {
		widths[i] = w.width * c.weight / weights
	}
	w.SetDrawColor(190, 195, 200)
	w.SetLineWidth(0.15)
	row := func(texts [][]string, numeric func(int) bool) {
		lines := 1
		for _, text := range texts {
			lines = max(lines, len(text))
		}
		y := w.GetY()
		for i, text := range texts {
			x := margin
			for _, before := range widths[:i] {
				x += before
			}
			align := "L"
			if numeric(i) {
				align = "R"
			}
			for n, line := range text {
				w.SetXY(x, y+0.5+high*float64(n))
				w.CellFormat(widths[i]-pad, high, line, "", 0, align, false, 0, "")
			}
		}
		w.SetXY(margin, y+high*float64(lines)+1)
		w.Line(margin, w.GetY(), margin+w.width, w.GetY())
	}
	headings := func() {
		w.SetFont("go", "B", rowSize)
		texts := make([][]string, len(t.columns))
		for i, c := range t.columns {
			texts[i] = w.split(w.words.Columns[c.key], widths[i]-pad-0.5)
		}
		row(texts, func(i int) bool { return len(t.rows) > 0 && isNumeric(t.rows[0][i]) })
		w.SetFont("go", "", rowSize)
	}
	w.room(4 * high)
	headings()
	for _, cells := range t.rows {
		texts, lines := make([][]string, len(cells)), 1
		for i, value := range cells {
			texts[i] = w.split(cellText(value), widths[i]-pad-0.5)
			if len(texts[i]) > mostLines {
				texts[i] = append(texts[i][:mostLines-1], strings.TrimSpace(clip(texts[i][mostLines-1], 20))+"…")
			}
			lines = max(lines, len(texts[i]))
		}
		if w.GetY()+high*float64(lines)+1 > w.bottom {
			w.AddPage()
			headings()
		}
		row(texts, func(i int) bool { return isNumeric(cells[i]) })
	}
	w.Ln(2)
}
