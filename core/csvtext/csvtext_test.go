package csvtext

import (
	"bytes"
	"encoding/csv"
	"strings"
	"testing"
)

// A spreadsheet takes no text for a formula, whichever separator its locale has; and what was written reads back.
func TestFormulasStayText(t *testing.T) {
	for _, text := range []string{
		`=HYPERLINK("http://example.test")`, "+1", "-1", "@SUM(A1)", "\t=1", "\r=1", " =1", "\ufeff=1", "\uff1d1", `"=1`, "x;=cmd", "x\t@y", "two\n=lines", "'=1", "''=1", "a;'=b",
	} {
		mark := Mark(text)
		if Unmark(mark) != text {
			t.Errorf("%q is marked %q, and unmarked %q", text, mark, Unmark(mark))
		}
		for _, separator := range []string{",", ";", "\t", "|", "\n", "\r"} {
			var out bytes.Buffer
			if err := Write(&out, []string{text}, [][]string{{"plain", text}}); err != nil {
				t.Fatal(err)
			}
			for line := range strings.SplitSeq(out.String(), "\n") {
				for cell := range strings.SplitSeq(line, separator) {
					if isFormula(cell) {
						t.Errorf("%q split at %q holds the formula %q", out.String(), separator, cell)
					}
				}
			}
		}
	}
	for _, plain := range []string{"", "printer", "'quoted'", "it's", "10.40.1.5", "a=b", "Palm house, east", "level -1"} {
		if Mark(plain) != plain || Unmark(plain) != plain {
			t.Errorf("%q became %q and %q", plain, Mark(plain), Unmark(plain))
		}
	}
}

func FuzzMark(f *testing.F) {
	f.Add("=1;'=2")
	f.Fuzz(func(t *testing.T, text string) {
		if back := Unmark(Mark(text)); back != text {
			t.Errorf("%q came back as %q", text, back)
		}
	})
}

func TestWriteReadsBack(t *testing.T) {
	var out bytes.Buffer
	rows := [][]string{{`a "quoted", one`, "two\nlines"}, {"=1", ""}}
	if err := Write(&out, []string{"Name", "Note"}, rows); err != nil {
		t.Fatal(err)
	}
	got, err := csv.NewReader(strings.NewReader(out.String())).ReadAll()
	if err != nil || len(got) != 3 || got[1][0] != rows[0][0] || got[1][1] != rows[0][1] || got[2][0] != "'=1" {
		t.Errorf("read back: %q, %v", got, err)
	}
}
