// Package yamlfile reads YAML that people write: unknown fields are refused, and every fault has a line and column.
package yamlfile

import (
	"errors"
	"fmt"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/lexer"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"

	"airdrift/core/fault"
)

// Document is a file that was read, kept so that later checks can point into it.
type Document struct {
	root   ast.Node
	Faults fault.List
}

// Bounds of what is read. They lie far above what people write, and are held before anything is built of a file: reading a
// short one that nests without end would cost more than a machine has.
const (
	// MaxSize is the longest file, in bytes.
	MaxSize  = 512 << 10
	maxDepth = 32
	maxItems = 100_000 // words and signs
)

// check looks through a file word by word for what is not to be built. Anchors and aliases, by which a few lines stand for
// millions, have no use in the files read here.
func check(data []byte) *fault.Fault {
	if len(data) > MaxSize {
		return &fault.Fault{Why: fmt.Sprintf("the file has %d bytes, and at most %d are read: part it", len(data), MaxSize)}
	}
	flow, opened, line := 0, 0, 0 // brackets that are open, and entries and keys that begin in this line
	tokens := lexer.Tokenize(string(data))
	for _, t := range tokens {
		why := ""
		if t.Position != nil && t.Position.Line != line {
			line, opened = t.Position.Line, 0
		}
		switch t.Type {
		case token.SequenceStartType, token.MappingStartType:
			flow++
		case token.SequenceEndType, token.MappingEndType:
			flow--
		case token.SequenceEntryType, token.MappingKeyType:
			opened++
		case token.AnchorType, token.AliasType, token.MergeKeyType:
			why = "anchors and aliases are not read here: write the value out"
		}
		if flow+opened > maxDepth {
			why = fmt.Sprintf("nests more than %d deep", maxDepth)
		}
		if why != "" {
			return &fault.Fault{Line: line, Why: why}
		}
	}
	if len(tokens) > maxItems {
		return &fault.Fault{Why: fmt.Sprintf("the file has %d words and signs, and at most %d are read: part it", len(tokens), maxItems)}
	}
	return nil
}

// Read decodes one YAML document into a value. Where that fails the error is a *fault.List.
func Read(name string, data []byte, into any) (*Document, error) {
	doc := &Document{Faults: fault.List{Name: name}}
	if f := check(data); f != nil {
		doc.Faults.Add(*f)
		return nil, doc.Faults.Err()
	}
	file, err := parser.ParseBytes(data, 0)
	if err == nil && (len(file.Docs) == 0 || file.Docs[0].Body == nil) {
		err = errors.New("the file is empty")
	}
	if err == nil {
		doc.root = file.Docs[0].Body
		err = yaml.UnmarshalWithOptions(data, into, yaml.Strict())
	}
	if err != nil {
		doc.Faults.Add(toFault(err))
		return nil, doc.Faults.Err()
	}
	return doc, nil
}

func toFault(err error) fault.Fault {
	var placed yaml.Error
	if errors.As(err, &placed) && placed.GetToken() != nil && placed.GetToken().Position != nil {
		at := placed.GetToken().Position
		return fault.Fault{Line: at.Line, Column: at.Column, Why: placed.GetMessage()}
	}
	return fault.Fault{Why: err.Error()}
}

// Refuse notes a fault at a path such as "$.devices[3].mac". Where the path is absent the fault is placed at the
// nearest part of it that is there.
func (d *Document) Refuse(path, format string, args ...any) {
	f := fault.Fault{Field: path[min(2, len(path)):], Why: fmt.Sprintf(format, args...)}
	for p := path; ; p = parent(p) {
		if node := d.find(p); node != nil {
			at := start(node).GetToken().Position
			f.Line, f.Column = at.Line, at.Column
			break
		}
		if p == "$" {
			break
		}
	}
	d.Faults.Add(f)
}

func (d *Document) find(path string) ast.Node {
	p, err := yaml.PathString(path)
	if err != nil {
		return nil
	}
	node, err := p.FilterNode(d.root)
	if err != nil {
		return nil
	}
	return node
}

// start gives the node whose token is the first of a mapping, as a mapping's own token is a colon.
func start(node ast.Node) ast.Node {
	switch n := node.(type) {
	case *ast.MappingNode:
		if len(n.Values) > 0 {
			return start(n.Values[0].Key)
		}
	case *ast.MappingValueNode:
		return start(n.Key)
	}
	return node
}

func parent(path string) string {
	for i := len(path) - 1; i > 0; i-- {
		if path[i] == '.' || path[i] == '[' {
			return path[:i]
		}
	}
	return "$"
}
