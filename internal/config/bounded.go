package config

import (
	"fmt"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/lexer"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
)

// What a file may hold at most, so that none takes the machine's memory.
const (
	mostBytes  = 4 << 20
	mostLevels = 100
	// mostValues counts each value as often as aliases repeat it.
	mostValues = 200_000
)

// bounded refuses a file that is too large, too deep, or grows too much by its aliases.
func bounded(path string, raw []byte) error {
	if len(raw) > mostBytes {
		return fmt.Errorf("%s is %d bytes; at most %d are read", path, len(raw), mostBytes)
	}
	depth, line, entries := 0, 0, 0
	for _, t := range lexer.Tokenize(string(raw)) {
		if t.Position.Line != line {
			line, entries = t.Position.Line, 0
		}
		switch t.Type {
		case token.SequenceStartType, token.MappingStartType:
			depth++
		case token.SequenceEndType, token.MappingEndType:
			depth--
		case token.SequenceEntryType:
			entries++
		}
		if depth+entries > mostLevels || t.Position.IndentNum > 2*mostLevels {
			return fmt.Errorf("%s:%d:%d: it is nested more than %d levels deep", path, t.Position.Line, t.Position.Column, mostLevels)
		}
	}
	file, err := parser.ParseBytes(raw, 0, parser.AllowDuplicateMapKey())
	if err != nil {
		return nil // the reader tells of it with its place
	}
	sizes := expansion{}
	total := 0
	for _, doc := range file.Docs {
		if total += sizes.of(doc.Body); total > mostValues {
			return fmt.Errorf("%s holds more than %d values once its aliases are written out; use fewer of them", path, mostValues)
		}
	}
	return nil
}

// expansion is how many values an anchor stands for, with its aliases written out.
type expansion map[string]int

// of counts the values of a node, to a little more than mostValues.
func (e expansion) of(n ast.Node) int {
	size := 1
	add := func(n ast.Node) { size = min(size+e.of(n), 2*mostValues) }
	switch n := n.(type) {
	case *ast.MappingNode:
		for _, v := range n.Values {
			add(v)
		}
	case *ast.MappingValueNode:
		add(n.Key)
		add(n.Value)
	case *ast.SequenceNode:
		for _, v := range n.Values {
			add(v)
		}
	case *ast.AnchorNode:
		add(n.Value)
		e[n.Name.GetToken().Value] = size
	case *ast.AliasNode:
		size = max(size, e[n.Value.GetToken().Value])
	case *ast.TagNode:
		add(n.Value)
	case *ast.MappingKeyNode:
		add(n.Value)
	}
	return size
}
