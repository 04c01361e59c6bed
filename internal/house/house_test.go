// Package house holds the rules of how this module is laid out, as tests.
package house

import (
	"go/parser"
	"go/token"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
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

// Every promise of docs/security.md names the tests that hold it, and they are there.
func TestPromisesHaveTheirTests(t *testing.T) {
	text, err := os.ReadFile("../../docs/security.md")
	if err != nil {
		t.Fatal(err)
	}
	lists := regexp.MustCompile(`([a-z/]+): (Test\w+(?:, Test\w+)*)`).FindAllStringSubmatch(string(text), -1)
	if len(lists) < 30 {
		t.Fatalf("only %d promises name their tests", len(lists))
	}
	for _, list := range lists {
		files, err := filepath.Glob(filepath.Join("..", "..", list[1], "*_test.go"))
		if err != nil || len(files) == 0 {
			t.Errorf("the package %s has no tests, %v", list[1], err)
		}
		code := ""
		for _, file := range files {
			part, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			code += string(part)
		}
		for name := range strings.SplitSeq(list[2], ", ") {
			if !strings.Contains(code, "\nfunc "+name+"(t *testing.T)") {
				t.Errorf("%s has no %s", list[1], name)
			}
		}
	}
}
