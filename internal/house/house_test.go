// Package house holds the rules of how this module is laid out, as tests.
package house

import (
	"go/parser"
	"go/token"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// banned are packages the core must not depend on, each with the reason.
var banned = map[string]string{
	"airdrift/service": "the core knows nobody", "airdrift/store": "the core knows nobody", "airdrift/command": "the core knows nobody",
	"airdrift/client": "the core knows nobody", "airdrift/console": "the core knows nobody", "airdrift/simsite": "the core runs on any wire",
	"airdrift/hostwire": "the core runs on any wire", "airdrift/api": "the core has types of its own",
	"gorm.io/": "storing is the store's work", "database/sql": "storing is the store's work",
	"github.com/urfave/cli": "the core has no command line", "github.com/go-chi/": "the core serves no HTTP",
	"github.com/danielgtaylor/huma": "the core serves no HTTP",
}

func TestCoreImportsNothingOfTheRest(t *testing.T) {
	out, err := exec.Command("go", "list", "-deps", "airdrift/core/...").Output()
	if err != nil {
		t.Fatal(err)
	}
	for dep := range strings.FieldsSeq(string(out)) {
		for prefix, why := range banned {
			if strings.HasPrefix(dep, prefix) {
				t.Errorf("core depends on %s: %s", dep, why)
			}
		}
	}
}

func TestCommandsNeverOpenTheDatabase(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", "{{join .Imports \"\\n\"}}", "airdrift/command").Output()
	if err != nil {
		t.Fatal(err)
	}
	for dep := range strings.FieldsSeq(string(out)) {
		if dep == "airdrift/store" || strings.HasPrefix(dep, "gorm.io/") {
			t.Errorf("command imports %s: commands speak to the service through client alone", dep)
		}
	}
}

func TestEveryPackageSaysWhatItIsFor(t *testing.T) {
	files, err := exec.Command("git", "ls-files", "../../*.go").Output()
	if err != nil {
		t.Fatal(err)
	}
	documented := map[string]bool{}
	for name := range strings.FieldsSeq(string(files)) {
		dir := filepath.Dir(name)
		file, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.PackageClauseOnly|parser.ParseComments)
		if err != nil {
			t.Fatal(err)
		}
		documented[dir] = documented[dir] || file.Doc != nil
	}
	for dir, ok := range documented {
		if !ok {
			t.Errorf("no file of %s has a package comment", dir)
		}
	}
}
