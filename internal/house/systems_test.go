package house

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/tools/go/packages"
)

// The program builds for the other systems it is for: all of it is checked as the compiler would, without making code of it. Of packages that are not ours the
// declarations are enough, so their bodies are left out.
func TestOtherSystems(t *testing.T) {
	root, err := filepath.Abs("../..")
	if err != nil {
		t.Fatal(err)
	}
	for _, system := range []string{"darwin", "windows"} {
		t.Run(system, func(t *testing.T) {
			t.Parallel()
			config := &packages.Config{
				Mode:    packages.NeedName | packages.NeedFiles | packages.NeedCompiledGoFiles | packages.NeedImports | packages.NeedDeps | packages.NeedTypes | packages.NeedTypesInfo | packages.NeedSyntax | packages.NeedModule,
				Context: t.Context(), Dir: root, Env: append(os.Environ(), "GOOS="+system, "CGO_ENABLED=0"), Tests: false,
				ParseFile: func(files *token.FileSet, name string, text []byte) (*ast.File, error) {
					file, err := parser.ParseFile(files, name, text, parser.SkipObjectResolution)
					if file != nil && !strings.HasPrefix(name, root+string(filepath.Separator)) {
						withoutBodies(file)
					}
					return file, err
				},
			}
			found, err := packages.Load(config, "./cmd/airdrift", "./core/...", "./hostwire")
			if err != nil || len(found) < 20 {
				t.Fatalf("%d packages, %v", len(found), err)
			}
			packages.Visit(found, nil, func(p *packages.Package) {
				if !strings.HasPrefix(p.PkgPath, "airdrift") {
					return
				}
				for _, fault := range p.Errors {
					t.Errorf("%s: %v", p.PkgPath, fault)
				}
			})
		})
	}
}

func withoutBodies(file *ast.File) {
	for _, d := range file.Decls {
		if f, is := d.(*ast.FuncDecl); is {
			f.Body = nil
		}
	}
}
