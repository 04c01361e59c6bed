package house

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"airdrift/core/probe"
)

// sources gives the parsed files of a package that are no tests, by their names.
func sources(t *testing.T, dir string) map[string]*ast.File {
	t.Helper()
	entries, err := os.ReadDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	files, set := map[string]*ast.File{}, token.NewFileSet()
	for _, entry := range entries {
		name := entry.Name()
		if !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			continue
		}
		if files[name], err = parser.ParseFile(set, filepath.Join(dir, name), nil, 0); err != nil {
			t.Fatal(err)
		}
	}
	return files
}

// registers reports whether a file registers a protocol.
func registers(file *ast.File) bool {
	found := false
	ast.Inspect(file, func(n ast.Node) bool {
		call, ok := n.(*ast.CallExpr)
		if ok {
			name, isName := call.Fun.(*ast.Ident)
			found = found || isName && name.Name == "register"
		}
		return !found
	})
	return found
}

// A protocol is one value in one file: what it registers is named nowhere else, and the engine knows none by name or port. So a new
// one touches one file, besides its rules.
func TestAProtocolIsOneFile(t *testing.T) {
	files := sources(t, "../../core/probe")
	owner := map[string]string{} // of each key of a fact, and of each function that leads an exchange
	for name, file := range files {
		if !registers(file) {
			continue
		}
		for _, decl := range file.Decls {
			switch d := decl.(type) {
			case *ast.GenDecl:
				for _, spec := range d.Specs {
					if v, ok := spec.(*ast.ValueSpec); ok {
						for _, id := range v.Names {
							if strings.HasPrefix(id.Name, "key") || strings.HasSuffix(id.Name, "Port") {
								owner[id.Name] = name
							}
						}
					}
				}
			case *ast.FuncDecl:
				if d.Recv == nil && (strings.HasPrefix(d.Name.Name, "ask") || strings.HasPrefix(d.Name.Name, "hear")) {
					owner[d.Name.Name] = name
				}
			}
		}
	}
	if len(owner) < 100 {
		t.Fatalf("only %d names of protocols were found", len(owner))
	}
	for name, file := range files {
		if registers(file) {
			continue // protocols may be built on one another, as HTTPS on HTTP
		}
		ast.Inspect(file, func(n ast.Node) bool {
			if id, ok := n.(*ast.Ident); ok && owner[id.Name] != "" && id.Obj == nil && !strings.HasPrefix(name, strings.TrimSuffix(owner[id.Name], ".go")+"_") {
				t.Errorf("core/probe/%s names %s, which is %s's own", name, id.Name, owner[id.Name])
			}
			return true
		})
	}
	names, ports := probe.Switches(), []string{}
	for _, p := range probe.Protocols() {
		for _, port := range append(slices.Clone(p.Ports), p.Port.Number) {
			if port > 100 && port%1000 != 0 { // others may be anything
				ports = append(ports, strconv.Itoa(int(port)))
			}
		}
	}
	for name, file := range sources(t, "../../core/sweep") {
		ast.Inspect(file, func(n ast.Node) bool {
			literal, ok := n.(*ast.BasicLit)
			if !ok {
				return true
			}
			if text, err := strconv.Unquote(literal.Value); err == nil && literal.Kind == token.STRING && slices.Contains(names, text) {
				t.Errorf("core/sweep/%s names the protocol %q", name, text)
			}
			if literal.Kind == token.INT && slices.Contains(ports, literal.Value) {
				t.Errorf("core/sweep/%s names the port %s of a protocol", name, literal.Value)
			}
			return true
		})
	}
}
