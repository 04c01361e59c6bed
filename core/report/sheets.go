package report

import (
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/xuri/excelize/v2"

	"airdrift/core/csvtext"
	"airdrift/core/finding"
	"airdrift/core/inventory"
	"airdrift/core/plain"
	"airdrift/core/wording"
)

// sheetsOf gives the tables of an extract with all that is known, for programs and for who sorts and filters.
func sheetsOf(r Report, language string) []*table {
	w := &writer{Report: r, words: wording.In(language)}
	fields := inventory.ShownIn(inventory.Sheet)
	devices := &table{name: w.say("devices"), columns: append(keyed("number"), append(columnsOf(fields), keyed("wanted", "mac", "network", "note", "services")...)...)}
	times := &table{name: w.say("times"), columns: keyed("number", "name", "address", "protocol", "answers", "lost", "median", "most", "worst")}
	for _, d := range r.Devices {
		row := []any{d.ID}
		for _, f := range fields {
			row = append(row, w.sheetCell(d, f))
		}
		devices.rows = append(devices.rows, append(row, d.Wanted, strings.Join(d.MACs, " "), strings.Join(d.Networks, ", "), d.Note, strings.Join(d.Services, " ")))
		for _, t := range d.Times {
			times.rows = append(times.rows, []any{d.ID, d.Text("name"), list(d.Texts("address")), t.Protocol, t.Answers, t.Lost, t.Median, t.Most, t.Worst})
		}
	}
	findings := &table{name: w.say("all-findings"), columns: keyed("number", "severity", "finding", "device", "address", "says", "do", "since", "state", "until", "reason", "rule", "evidence")}
	mending := &table{name: w.say("mending"), columns: keyed("severity", "finding", "count", "do", "device")}
	at := map[string]int{}
	for _, f := range r.Findings {
		findings.rows = append(findings.rows, []any{
			f.ID, w.words.Severities[f.Severity.String()], f.Title, names(f.Devices), addrs(f.Devices), f.Says, f.Do, f.Since, w.words.States[f.State], f.Until, f.Reason, f.Rule, strings.Join(f.Evidence, "; "),
		})
		if f.State == string(finding.Accepted) {
			continue
		}
		key := f.Severity.String() + " " + f.Rule
		if _, known := at[key]; !known {
			at[key] = len(mending.rows)
			mending.rows = append(mending.rows, []any{w.words.Severities[f.Severity.String()], f.Title, 0, f.Do, ""})
		}
		row := mending.rows[at[key]]
		row[2] = row[2].(int) + len(f.Devices)
		row[4] = strings.TrimPrefix(row[4].(string)+", "+names(f.Devices), ", ")
	}
	return []*table{devices, findings, mending, times}
}

// sheetCell gives a field of a device for programs: times and numbers as they are, and all of several addresses.
func (w *writer) sheetCell(d Device, f *inventory.Field) any {
	switch {
	case f.Name == "standing":
		return w.words.Standings[d.Text(f.Name)]
	case f.Type == inventory.Time:
		return d.Time(f.Name)
	case f.Type == inventory.Number:
		return d.Number(f.Name)
	}
	return f.Text(d.Values[f.Name])
}

// headingOf gives what a column is called: as reports say it, or as the catalogue of fields does.
func headingOf(c column, words *wording.Catalogue) string {
	if heading := words.Columns[c.key]; heading != "" {
		return heading
	}
	if f, known := inventory.Named(c.key); known {
		return f.Heading
	}
	return c.key
}

func keyed(keys ...string) (columns []column) {
	for _, key := range keys {
		columns = append(columns, column{key: key})
	}
	return columns
}

// mostCell is how many characters a cell of a workbook takes (ECMA-376, part 1, 18.18.37, as programs hold it).
const mostCell = 32_000

// WriteXLSX writes an extract as a workbook (ECMA-376): what it is of, its devices, findings, what is to be mended and response times, each on a sheet
// with frozen headings, filters and real dates. No text is taken for a formula.
func WriteXLSX(out io.Writer, r Report, language string) error {
	words := wording.In(language)
	book := excelize.NewFile()
	defer book.Close()
	bold, err := book.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true, Family: "Calibri", Size: 11}, Fill: excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{"E4E8EA"}}, Alignment: &excelize.Alignment{Vertical: "top"}})
	if err != nil {
		return err
	}
	date := "yyyy-mm-dd hh:mm"
	dated, err := book.NewStyle(&excelize.Style{CustomNumFmt: &date, Alignment: &excelize.Alignment{Vertical: "top"}})
	if err != nil {
		return err
	}
	wrapped, err := book.NewStyle(&excelize.Style{Alignment: &excelize.Alignment{Vertical: "top", WrapText: true}})
	if err != nil {
		return err
	}
	title, blocks := document(r, language)
	first := words.Report["summary"]
	if err := book.SetSheetName("Sheet1", sheetName(first)); err != nil {
		return err
	}
	if err := writeSummary(book, sheetName(first), title, blocks, bold); err != nil {
		return err
	}
	for _, t := range sheetsOf(r, language) {
		if len(t.rows) == 0 {
			continue
		}
		if err := writeSheet(book, t, words, bold, dated, wrapped); err != nil {
			return err
		}
	}
	return book.Write(out)
}

// sheetName makes a name that a sheet may have.
func sheetName(name string) string {
	name = strings.NewReplacer(":", " ", "\\", " ", "/", " ", "?", " ", "*", " ", "[", "(", "]", ")").Replace(name)
	runes := []rune(name)
	return string(runes[:min(len(runes), 31)])
}

func writeSummary(book *excelize.File, sheet, title string, blocks []block, bold int) error {
	stream, err := book.NewStreamWriter(sheet)
	if err != nil {
		return err
	}
	if err := stream.SetColWidth(1, 1, 60); err != nil {
		return err
	}
	row := 1
	write := func(cells ...any) error {
		err := stream.SetRow(fmt.Sprintf("A%d", row), cells)
		row++
		return err
	}
	if err := write(excelize.Cell{StyleID: bold, Value: sheetText(title)}); err != nil {
		return err
	}
	for _, b := range blocks {
		switch {
		case b.table != nil || b.level == 1 && row > 6:
			return stream.Flush()
		case b.figures != nil:
			for _, f := range b.figures {
				if err := write(sheetText(f.label), numberOr(f.value)); err != nil {
					return err
				}
			}
		case b.text != "":
			if err := write(sheetText(b.text)); err != nil {
				return err
			}
		}
	}
	return stream.Flush()
}

// numberOr gives a number where a text is one.
func numberOr(text string) any {
	if n, err := strconv.Atoi(text); err == nil {
		return n
	}
	return sheetText(text)
}

func writeSheet(book *excelize.File, t *table, words *wording.Catalogue, bold, dated, wrapped int) error {
	sheet := sheetName(t.name)
	if _, err := book.NewSheet(sheet); err != nil {
		return err
	}
	stream, err := book.NewStreamWriter(sheet)
	if err != nil {
		return err
	}
	for i, c := range t.columns {
		if err := stream.SetColWidth(i+1, i+1, widthOf(t, i, headingOf(c, words))); err != nil {
			return err
		}
	}
	if err := stream.SetPanes(&excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2", ActivePane: "bottomLeft"}); err != nil {
		return err
	}
	headings := make([]any, len(t.columns))
	for i, c := range t.columns {
		headings[i] = excelize.Cell{StyleID: bold, Value: headingOf(c, words)}
	}
	if err := stream.SetRow("A1", headings); err != nil {
		return err
	}
	for n, values := range t.rows {
		cells := make([]any, len(values))
		for i, value := range values {
			switch v := value.(type) {
			case time.Time:
				if !v.IsZero() {
					cells[i] = excelize.Cell{StyleID: dated, Value: v.UTC()}
				}
			case string:
				cells[i] = excelize.Cell{StyleID: wrapped, Value: sheetText(v)}
			default:
				cells[i] = excelize.Cell{StyleID: wrapped, Value: value}
			}
		}
		if err := stream.SetRow(fmt.Sprintf("A%d", n+2), cells); err != nil {
			return err
		}
	}
	if err := stream.Flush(); err != nil {
		return err
	}
	last, err := excelize.CoordinatesToCellName(len(t.columns), len(t.rows)+1)
	if err != nil {
		return err
	}
	if err := book.AutoFilter(sheet, "A1:"+last, nil); err != nil {
		return err
	}
	return printWell(book, sheet)
}

// printWell has a sheet printed across the page, with its headings on each.
func printWell(book *excelize.File, sheet string) error {
	fit, wide, across, down := true, "landscape", 1, 0
	if err := book.SetSheetProps(sheet, &excelize.SheetPropsOptions{FitToPage: &fit}); err != nil {
		return err
	}
	if err := book.SetPageLayout(sheet, &excelize.PageLayoutOptions{Orientation: &wide, FitToWidth: &across, FitToHeight: &down}); err != nil {
		return err
	}
	return book.SetDefinedName(&excelize.DefinedName{Name: "_xlnm.Print_Titles", RefersTo: "'" + strings.ReplaceAll(sheet, "'", "''") + "'!$1:$1", Scope: sheet})
}

// sheetText makes a text that a cell takes, without control characters.
func sheetText(text string) string {
	text = plain.Text(text, false)
	if utf8.RuneCountInString(text) > mostCell {
		text = string([]rune(text)[:mostCell])
	}
	return text
}

// widthOf gives how wide a column is, in characters, by what stands in its first rows.
func widthOf(t *table, at int, heading string) float64 {
	longest := utf8.RuneCountInString(heading) + 3
	for _, row := range t.rows[:min(len(t.rows), 200)] {
		longest = max(longest, utf8.RuneCountInString(cellText(row[at]))+1)
	}
	return float64(min(max(longest, 6), 48))
}

// Sheets are the names of the tables of an extract that are written as CSV.
var Sheets = []string{"devices", "findings", "mending", "times"}

// WriteCSV writes one table of an extract as CSV with raw values and times as RFC 3339 has them. Text that a program would take for a formula is
// marked.
func WriteCSV(out io.Writer, r Report, language, sheet string) error {
	t := sheetsOf(r, language)[max(0, slices.Index(Sheets, sheet))]
	words := wording.In(language)
	headings := make([]string, len(t.columns))
	for i, c := range t.columns {
		headings[i] = headingOf(c, words)
	}
	rows := make([][]string, len(t.rows))
	for n, values := range t.rows {
		rows[n] = make([]string, len(values))
		for i, value := range values {
			switch v := value.(type) {
			case time.Time:
				if !v.IsZero() {
					rows[n][i] = v.UTC().Format(time.RFC3339)
				}
			case string:
				rows[n][i] = plain.Text(v, false)
			default:
				rows[n][i] = fmt.Sprint(value)
			}
		}
	}
	return csvtext.Write(out, headings, rows)
}
