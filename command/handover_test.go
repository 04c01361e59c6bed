package command_test

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode"
)

// useHandingOver acts on many devices, saves filters, takes sides, and writes reports and extracts.
func useHandingOver(t *testing.T, use func(args ...string) (out, errs string, code int), expect func(code int, says string, args ...string)) {
	t.Helper()
	expect(0, "address resolution", "complete")
	expect(0, "nine of ten", "complete")
	expect(2, "nothing can be told of it", "complete", "--sweep", "1") // which was interrupted
	expect(0, "network,subnet,sweep,seen,missed,low,high,ways\n", "--output", "csv", "complete")
	expect(0, "Nothing is done yet: 3 would be changed", "devices", "act", "set-aside", "--filter", "kind=pdu", "--text", "a loan", "--preview")
	expect(0, "3 changed, 0 left as they are. To undo it: airdrift devices undo 2", "devices", "act", "set-aside", "--filter", "kind=pdu", "--text", "a loan")
	expect(0, "a loan", "devices", "acts")
	expect(0, "3 taken back, 0 left", "devices", "undo", "2")
	expect(1, "it was undone before", "devices", "undo", "2")
	expect(2, "say which are meant", "devices", "act", "note", "--text", "x")
	expect(2, `devices have no "knd"`, "devices", "act", "note", "--text", "x", "--filter", "knd=pdu")
	expect(2, "is no number of a finding", "devices", "act", "confirm", "first")
	expect(0, "", "views", "save", "power", "--filter", "kind=pdu,ups", "--columns", "name,address")
	expect(0, "kind=pdu,ups", "views")
	expect(0, "kitchen-pdu", "devices", "--view", "power")
	expect(0, "addresses,name\n", "--output", "csv", "devices", "--view", "power")
	expect(0, "name,firmware\n", "--output", "csv", "devices", "--view", "power", "--columns", "firmware,name")
	expect(2, `there is no column "colour": want some of number, address`, "devices", "--columns", "colour")
	expect(1, `view "colours": not found`, "devices", "--view", "colours")
	expect(2, `no column "colour"`, "views", "save", "power", "--filter", "kind=pdu", "--columns", "colour")
	expect(0, "", "groups", "save", "meters", "--filter", "kind=meter&network=plant")
	expect(0, "seed-vault-meter", "devices", "--group", "meters")
	expect(0, "", "groups", "delete", "meters")
	expect(1, "not found", "groups", "delete", "meters")
	expect(0, "", "drift")
	expect(2, "say which devices", "drift", "take")
	dir := t.TempDir()
	for name, begins := range map[string]string{"site.pdf": "%PDF-", "site.html": "<!DOCTYPE html>", "site.json": "{"} {
		written(t, expect, filepath.Join(dir, name), begins, "report")
	}
	expect(0, "Network inventory of Fernhollow Botanic Garden", "report", "-")
	expect(2, "the end of a file's name says its form", "report", filepath.Join(dir, "site.doc"))
	expect(2, "the first sweep began on", "report", filepath.Join(dir, "old.pdf"), "--at", "2001-01-01")
	expect(0, "", "extract", "save", "power", "--filter", "kind=pdu", "--for", "the electricians")
	expect(0, "the electricians", "extract", "list")
	for name, begins := range map[string]string{"p.xlsx": "PK", "p.csv": "No,Address,Name", "p.json": "{", "p.html": "<!DOCTYPE html>", "p.pdf": "%PDF-"} {
		written(t, expect, filepath.Join(dir, name), begins, "extract", "--name", "power")
	}
	expect(0, "kitchen-pdu", "extract", "-", "--filter", "kind=pdu")
	expect(2, "for nobody", "extract", filepath.Join(dir, "n.xlsx"), "--filter", "kind=label-printer&network=plant")
	expect(2, "give --filter, or the --name", "extract", filepath.Join(dir, "n.xlsx"))
	if _, err := os.Stat(filepath.Join(dir, "n.xlsx")); err == nil {
		t.Error("an extract that was refused has left a file")
	}
	for _, args := range [][]string{{"extract", "-", "--filter", "network=offices"}, {"extract", "-", "--filter", "network=offices", "--sheet", "findings"}, {"report", "-"}, {"drift"}, {"complete"}} {
		out, errs, _ := use(args...)
		for _, r := range out + errs {
			if r != '\n' && r != '\r' && !unicode.IsPrint(r) {
				t.Errorf("airdrift %s prints the character %q", strings.Join(args, " "), r)
				break
			}
		}
	}
}

// written has a file written, and looks at how it begins.
func written(t *testing.T, expect func(code int, says string, args ...string), file, begins string, args ...string) {
	t.Helper()
	expect(0, "", append([]string{args[0], file}, args[1:]...)...)
	if content, err := os.ReadFile(file); err != nil || !bytes.HasPrefix(content, []byte(begins)) {
		t.Errorf("%s: %.20q, %v", file, content, err)
	}
}
