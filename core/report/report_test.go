package report

import (
	"archive/zip"
	"bytes"
	"encoding/csv"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/xuri/excelize/v2"
	"golang.org/x/net/html"

	"airdrift/core/finding"
	"airdrift/core/inventory"
	"airdrift/core/wording"
)

var now = time.Date(2026, 11, 6, 15, 4, 5, 0, time.UTC)

// hostile texts are those that a device, a file or a person could have somebody's reader, spreadsheet or terminal do something by.
var hostile = []string{
	`=HYPERLINK("http://x.example","a")`, "+1+1", "@SUM(A1)", "-2+3", "\t=1", "<script>alert(1)</script>", `"><img src=x onerror=alert(1)>`, "</table></main>", "{{.}}",
	"\x1b[2J\x07", "a\x00b", "\u202egnp.exe", "line\nbreak", "]]>", "'; DROP TABLE devices; --", strings.Repeat("long ", 200), strings.Repeat("x", 5000), "\xff\xfe", "🎭 \U0010ffff 漢字",
}

// siteOf makes a report of a site with so many devices.
func siteOf(devices int) Report {
	r := Report{Site: "Fernhollow", At: now, Since: now.AddDate(0, 0, -4), Made: now, Version: "1", Findings: []Finding{}, Networks: []Network{{Name: "offices", Subnet: "10.40.0.0/16"}}}
	standings := []string{"managed", "unmanaged", "managed", "missing", "set aside"}
	for i := range devices {
		d := Device{
			Line: inventory.Line{ID: uint64(i + 1), Values: map[string]any{
				"name": fmt.Sprintf("device %d of the hall", i), "kind": "printer", "vendor": "Marrowby Print", "model": "Inkwell 220", "firmware": "1.2", "standing": standings[i%len(standings)], "presence": "seen",
				"address": []string{fmt.Sprintf("10.40.%d.%d", i/250, i%250+1)}, "firstSeen": now, "lastSeen": now,
			}},
			MACs: []string{fmt.Sprintf("c4:ca:f5:00:%02x:%02x", i/256%256, i%256)}, Networks: []string{"offices"}, Services: []string{"tcp/80"},
			Times: []Times{{"http", 3, 0, 1.5, 2, 2}},
		}
		r.Devices = append(r.Devices, d)
		for n := range 2 {
			r.Findings = append(r.Findings, Finding{
				ID: uint64(2*i + n), Rule: fmt.Sprintf("rule-%d", n), Severity: finding.High, State: "open", Title: fmt.Sprintf("Rule %d", n), Says: "Telnet at tcp/23 takes passwords unencrypted.", Because: "Everybody can read it.", Do: "Switch it off.",
				Devices: []Named{{d.ID, d.Text("name"), d.Texts("address")[0]}}, Since: now,
			})
		}
	}
	for i := range 3 {
		r.Sweeps = append(r.Sweeps, Sweep{ID: uint64(i + 1), Began: now, Ended: now, State: "done", Vantage: "laptop", Ranges: "10.40.0.0/16", Pace: "steady", Seen: devices, Unmanaged: devices / 5, Signature: strings.Repeat("ab", 32)})
	}
	r.Changes = []Change{{At: now, Sweep: 3, Kind: "appeared", Device: Named{1, "device 0", "10.40.0.1"}, After: "10.40.0.1"}}
	r.Completeness = []Completeness{{Network: "offices", Subnet: "10.40.0.0/16", Sweep: 3, Seen: devices, Told: true, Missed: 2.4, Low: 0.5, High: 7.2, Ways: []string{"echo 9"}, Advice: []string{"two-ways"}}}
	r.Networks[0].Cells, r.Networks[0].Block = slices.Repeat([]Cell{Free, Seen, Silent, Register, Dynamic, Conflict}, 40), 1
	return r
}

// laden puts a text everywhere where something that others have said stands.
func laden(text string) Report {
	r := siteOf(2)
	r.Extract, r.Audience, r.Site = text, text, text
	d := &r.Devices[0]
	values := map[string]any{}
	for _, f := range inventory.Read() {
		switch f.Type {
		case inventory.Text:
			values[f.Name] = text
		case inventory.Texts:
			values[f.Name] = []string{text}
		}
	}
	values["standing"] = "unmanaged"
	*d = Device{Line: inventory.Line{ID: 1, Values: values}, Wanted: text, Note: text, Aside: text,
		MACs: []string{text}, Networks: []string{text}, Services: []string{text}, Times: []Times{{Protocol: text}}}
	for i := range r.Findings {
		f := &r.Findings[i]
		f.Rule, f.Title, f.Says, f.Because, f.Do, f.Reason, f.Evidence, f.Devices = text, text, text, text, text, text, []string{text}, []Named{{1, text, text}}
	}
	r.Findings[0].State = "accepted"
	r.Changes[0] = Change{At: now, Kind: text, Device: Named{1, text, text}, Attribute: text, Before: text, After: text}
	r.Credentials, r.Unswept = []string{text}, []string{text}
	r.Sweeps[0].Vantage, r.Sweeps[0].Ranges, r.Sweeps[0].LeftOut = text, text, text
	r.Networks[0].Name, r.Networks[0].Purpose = text, text
	return r
}

// What devices say stays text in each way out.
func TestHostileTexts(t *testing.T) {
	for _, text := range hostile {
		for _, extract := range []bool{true, false} {
			r := laden(text)
			if !extract {
				r.Extract = ""
			}
			checkHTML(t, text, r)
			checkPDF(t, text, r)
			checkXLSX(t, text, r)
			checkCSV(t, text, r)
		}
	}
}

func checkHTML(t *testing.T, text string, r Report) {
	t.Helper()
	var out bytes.Buffer
	if err := WriteHTML(&out, r, wording.Default, A4); err != nil {
		t.Fatalf("%q: %v", text, err)
	}
	allowed := []string{"html", "head", "meta", "title", "style", "body", "main", "h1", "h2", "h3", "p", "ul", "li", "b", "i", "span", "div", "figure", "figcaption", "table", "colgroup", "col", "thead", "tbody", "tr", "th", "td"}
	tokens := html.NewTokenizer(&out)
	tables := 0
	for {
		switch tokens.Next() {
		case html.ErrorToken:
			if tables != 0 {
				t.Errorf("%q: %d tables are not closed", text, tables)
			}
			return
		case html.TextToken:
			for _, c := range string(tokens.Text()) {
				if c < ' ' && c != '\n' || c == '\u202e' {
					t.Fatalf("%q: the page has the character %q", text, c)
				}
			}
		case html.StartTagToken:
			token := tokens.Token()
			if !slices.Contains(allowed, token.Data) {
				t.Fatalf("%q: the page has a %s", text, token.Data)
			}
			for _, a := range token.Attr {
				if strings.HasPrefix(a.Key, "on") || a.Key == "src" || a.Key == "href" {
					t.Fatalf("%q: a %s has %s", text, token.Data, a.Key)
				}
			}
			if token.Data == "table" {
				tables++
			}
		case html.EndTagToken:
			if tokens.Token().Data == "table" {
				tables--
			}
		}
	}
}

func checkPDF(t *testing.T, text string, r Report) {
	t.Helper()
	var out bytes.Buffer
	if err := WritePDF(&out, r, wording.Default, Letter); err != nil || !bytes.HasPrefix(out.Bytes(), []byte("%PDF-")) || bytes.Contains(out.Bytes(), []byte("/JavaScript")) || bytes.Contains(out.Bytes(), []byte("/URI")) {
		t.Errorf("%q: %v", text, err)
	}
}

func checkXLSX(t *testing.T, text string, r Report) {
	t.Helper()
	var out bytes.Buffer
	if err := WriteXLSX(&out, r, wording.Default); err != nil {
		t.Fatalf("%q: %v", text, err)
	}
	parts, err := zip.NewReader(bytes.NewReader(out.Bytes()), int64(out.Len()))
	if err != nil {
		t.Fatal(err)
	}
	for _, part := range parts.File {
		if !strings.HasPrefix(part.Name, "xl/worksheets/") {
			continue
		}
		file, err := part.Open()
		if err != nil {
			t.Fatal(err)
		}
		content, _ := io.ReadAll(file)
		if bytes.Contains(content, []byte("<f>")) || bytes.Contains(content, []byte("<f ")) {
			t.Errorf("%q: %s has a formula", text, part.Name)
		}
	}
	book, err := excelize.OpenReader(bytes.NewReader(out.Bytes()))
	if err != nil {
		t.Fatalf("%q: %v", text, err)
	}
	if rows, err := book.GetRows("Devices"); err != nil || len(rows) != 3 || len(rows[1]) < 5 || strings.ContainsAny(rows[1][1], "\x00\x1b\n") {
		t.Errorf("%q: %d rows, %v", text, len(rows), err)
	}
}

func checkCSV(t *testing.T, text string, r Report) {
	t.Helper()
	for _, sheet := range Sheets {
		var out bytes.Buffer
		if err := WriteCSV(&out, r, wording.Default, sheet); err != nil {
			t.Fatalf("%q: %v", text, err)
		}
		lines, err := csv.NewReader(&out).ReadAll()
		if err != nil || len(lines) < 2 {
			t.Fatalf("%q: %s: %d lines, %v", text, sheet, len(lines), err)
		}
		for _, line := range lines {
			for _, cell := range line {
				if strings.ContainsAny(cell, "\x00\x1b\x07\r") || cell != "" && strings.ContainsRune("=+@\t", rune(cell[0])) {
					t.Errorf("%q: %s has the cell %q", text, sheet, cell)
				}
			}
		}
	}
}

// Headings and rows of a page as people read it.
func TestPage(t *testing.T) {
	var out bytes.Buffer
	if err := WriteHTML(&out, siteOf(10), wording.Default, Letter); err != nil {
		t.Fatal(err)
	}
	page := out.String()
	at := 0
	for _, want := range []string{"Network inventory of Fernhollow", "At a glance", "Unmanaged devices", "10.40.0.2", "High: Rule 0 (10)", "What has changed since 2026-11-02", "appeared", "How complete this is", "echo 9", "Managed, but missing", "Method and scope", strings.Repeat("ab", 32)} {
		next := strings.Index(page[at:], want)
		if next < 0 {
			t.Fatalf("%q is not there, or not behind what comes before it", want)
		}
		at += next
	}
	for _, want := range []string{"@page { size: Letter }", "table-header-group", "break-inside: avoid", "counter(pages)", "default-src 'none'"} {
		if !strings.Contains(page, want) {
			t.Errorf("the page has no %q", want)
		}
	}
	if strings.Contains(page, "http://") || strings.Contains(page, "https://") || strings.Contains(page, "url(") {
		t.Error("the page needs something beside itself")
	}
}

// The inventory of what nobody manages comes first, and who is given an extract is told of its devices alone.
func TestParts(t *testing.T) {
	headings := func(r Report) (all []string) {
		_, blocks := document(r, wording.Default)
		for _, b := range blocks {
			if b.level == 1 {
				all = append(all, b.heading)
			}
		}
		return all
	}
	if got := strings.Join(headings(siteOf(10)), "|"); got != "At a glance|Unmanaged devices|What is wrong, and what to do|What has changed since 2026-11-02 15:04|How complete this is|The addresses|Managed, but missing|Managed|Set aside|Method and scope" {
		t.Error(got)
	}
	extract := siteOf(10)
	extract.Extract = "stage"
	if got := strings.Join(headings(extract), "|"); got != "At a glance|Devices|What is wrong, and what to do|Response times" {
		t.Error(got)
	}
	clean := siteOf(1)
	clean.Findings = nil
	if got := strings.Join(headings(clean), "|"); !strings.Contains(got, "Unmanaged devices|What is wrong") {
		t.Error(got)
	}
}

// A report draws how response times lie by protocol, the one that most devices answered in first; who has not answered is in none.
func TestResponseTimesDrawn(t *testing.T) {
	r := Report{Site: "s", Devices: []Device{
		{Line: inventory.Line{ID: 1}, Times: []Times{{Protocol: "http", Answers: 3, Median: 2}, {Protocol: "snmp", Answers: 1, Median: 150}}},
		{Line: inventory.Line{ID: 2}, Times: []Times{{Protocol: "http", Answers: 2, Median: 20}, {Protocol: "snmp", Lost: 3}}},
		{Line: inventory.Line{ID: 3}, Times: []Times{{Protocol: "http", Answers: 2, Median: 4}, {Protocol: "bacnet", Lost: 2}}},
	}}
	_, blocks := document(r, wording.Default)
	at := slices.IndexFunc(blocks, func(b block) bool { return b.spreads != nil })
	if at < 0 {
		t.Fatal("nothing is drawn")
	}
	p := blocks[at].spreads
	if len(p.rows) != 2 || p.rows[0].Name != "http" || p.rows[0].Count != 3 || p.rows[0].Middle != 4 || p.rows[1].Name != "snmp" || p.rows[1].Count != 1 {
		t.Errorf("%+v", p.rows)
	}
	if got := p.shown(); len(got.Marks) != 4 || got.Marks[3].Label != "1000 ms" || got.Rows[1].Middle != "150 ms" || got.Rows[0].Whisker+got.Rows[0].Long > 50 {
		t.Errorf("%+v", got)
	}
	if _, blocks := document(Report{Site: "s", Devices: []Device{{Line: inventory.Line{ID: 1}, Times: []Times{{Protocol: "http", Lost: 1}}}}}, wording.Default); slices.ContainsFunc(blocks, func(b block) bool { return b.spreads != nil }) {
		t.Error("a picture of nothing is drawn")
	}
}

// Dates of a workbook are dates, and its headings are frozen and filter.
func TestWorkbook(t *testing.T) {
	var out bytes.Buffer
	r := siteOf(5)
	r.Extract = "stage"
	if err := WriteXLSX(&out, r, wording.Default); err != nil {
		t.Fatal(err)
	}
	book, err := excelize.OpenReader(&out)
	if err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(book.GetSheetList(), "|"); got != "At a glance|Devices|Findings|What is to be mended|Response times" {
		t.Error(got)
	}
	rows, err := book.GetRows("Devices")
	if err != nil {
		t.Fatal(err)
	}
	place, err := excelize.CoordinatesToCellName(slices.Index(rows[0], "First seen")+1, 2)
	if err != nil {
		t.Fatal(err)
	}
	kind, err := book.GetCellType("Devices", place)
	value, _ := book.GetCellValue("Devices", place)
	if err != nil || kind == excelize.CellTypeInlineString || kind == excelize.CellTypeSharedString || value != "2026-11-06 15:04" {
		t.Errorf("a date is %v %q, %v", kind, value, err)
	}
	panes, err := book.GetPanes("Devices")
	if err != nil || !panes.Freeze || panes.YSplit != 1 {
		t.Errorf("%+v, %v", panes, err)
	}
	mending, _ := book.GetRows("What is to be mended")
	if len(mending) != 3 || mending[1][2] != "5" {
		t.Errorf("%q", mending)
	}
}

// A report of many devices has its bounds.
func TestSizes(t *testing.T) {
	r := siteOf(1000)
	for name, write := range map[string]func(io.Writer) error{
		"HTML": func(w io.Writer) error { return WriteHTML(w, r, wording.Default, A4) },
		"PDF":  func(w io.Writer) error { return WritePDF(w, r, wording.Default, A4) },
		"XLSX": func(w io.Writer) error { return WriteXLSX(w, r, wording.Default) },
	} {
		var out bytes.Buffer
		if err := write(&out); err != nil {
			t.Fatal(err)
		}
		if t.Logf("%s: %d kB", name, out.Len()/1000); out.Len() > 20<<20 {
			t.Errorf("%s of 1,000 devices takes %d bytes", name, out.Len())
		}
	}
}
