package csvtext

import (
	"bytes"
	"encoding/csv"
	"strings"
	"testing"
)

func TestFormulasStayText(t *testing.T) {
	for _, formula := range []string{`=HYPERLINK("http://example.test")`, "+1", "-1", "@SUM(A1)", "\t=1", "\r=1"} {
		marked := Mark(formula)
		if marked != "'"+formula || Unmark(marked) != formula {
			t.Errorf("%q is marked %q, and unmarked %q", formula, marked, Unmark(marked))
		}
	}
	for _, plain := range []string{"", "printer", "'quoted'", "10.40.1.5", "a=b"} {
		if Mark(plain) != plain || Unmark(plain) != plain {
			t.Errorf("%q became %q and %q", plain, Mark(plain), Unmark(plain))
		}
	}
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
