package plain

import "testing"

func TestText(t *testing.T) {
	for _, tt := range []struct {
		text  string
		lines bool
		want  string
	}{
		{"Climate 900 – Süd", false, "Climate 900 – Süd"},
		{"\x1b[2J\a", false, `\x1b[2J\x07`},
		{"a\nb", true, "a\nb"},
		{"a\nb\tc", false, `a\x0ab\x09c`},
		{"\u202egnp", false, `\u202egnp`},
		{"a\xff\xfe\ufffd", false, "a\\xff\\xfe\ufffd"},
		{"", false, ""},
	} {
		if got := Text(tt.text, tt.lines); got != tt.want {
			t.Errorf("%q gave %q, want %q", tt.text, got, tt.want)
		}
	}
}
