package console_test

import (
	"bytes"
	"compress/gzip"
	"io/fs"
	"regexp"
	"strings"
	"testing"

	"airdrift/console"
)

// What a page asks for before anything is drawn: at most so many bytes over the line, and so many files.
const (
	firstPageBytes = 250_000
	firstPageFiles = 8
)

// wanted are the files that the page names.
var wanted = regexp.MustCompile(`(?:src|href)="/(assets/[^"]+)"`)

// The first page is small and comes in few files, whatever pages are added to the console.
func TestFirstPageIsSmall(t *testing.T) {
	t.Parallel()
	files := console.Files()
	if files == nil {
		t.Fatal("the console is not built: run make build")
	}
	page := read(t, files, "index.html")
	sum, names := packed(t, page), wanted.FindAllStringSubmatch(string(page), -1)
	for _, name := range names {
		sum += packed(t, read(t, files, name[1]))
	}
	if sum > firstPageBytes {
		t.Errorf("the first page has %d bytes, want at most %d", sum, firstPageBytes)
	}
	if len(names) == 0 || len(names) > firstPageFiles {
		t.Errorf("the first page names %d files, want at most %d: %v", len(names), firstPageFiles, names)
	}
}

// Nothing that stars match is inherited: the browser could not share the styles of like rows then, and a long list would be drawn ten times as slowly.
func TestRowsCanShareTheirStyles(t *testing.T) {
	t.Parallel()
	files := console.Files()
	if files == nil {
		t.Fatal("the console is not built: run make build")
	}
	sheets, err := fs.Glob(files, "assets/*.css")
	if err != nil || len(sheets) == 0 {
		t.Fatal("there are no style sheets", err)
	}
	inherited := regexp.MustCompile(`\*[^{}]*\{[^}]*:\s*inherit`)
	for _, sheet := range sheets {
		if rule := inherited.Find(read(t, files, sheet)); rule != nil {
			t.Errorf("%s has the rule %s", sheet, rule)
		}
	}
}

// The page itself runs and loads nothing from elsewhere, and nothing that stands in it: the policy of the service would keep the browser from it.
func TestPageKeepsToThePolicy(t *testing.T) {
	t.Parallel()
	files := console.Files()
	if files == nil {
		t.Fatal("the console is not built: run make build")
	}
	page := string(read(t, files, "index.html"))
	for _, tag := range regexp.MustCompile(`<script[^>]*>([^<]*)</script>`).FindAllStringSubmatch(page, -1) {
		if strings.TrimSpace(tag[1]) != "" {
			t.Errorf("the page has a script in it: %s", tag[0])
		}
	}
	for _, ref := range regexp.MustCompile(`(?:src|href)="([^"]*)"`).FindAllStringSubmatch(page, -1) {
		if !strings.HasPrefix(ref[1], "/") || strings.HasPrefix(ref[1], "//") {
			t.Errorf("the page loads %s", ref[1])
		}
	}
}

func read(t *testing.T, files fs.FS, name string) []byte {
	t.Helper()
	text, err := fs.ReadFile(files, name)
	if err != nil {
		t.Fatal(err)
	}
	return text
}

// packed is how many bytes of a file go over the line.
func packed(t *testing.T, text []byte) int {
	t.Helper()
	var out bytes.Buffer
	zip, err := gzip.NewWriterLevel(&out, gzip.BestCompression)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := zip.Write(text); err != nil {
		t.Fatal(err)
	}
	if err := zip.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Len()
}
