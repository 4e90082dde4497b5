// Package config reads the files that set up the service. What is wrong with a
// file is told all at once, each with its line and column.
package config

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
)

// word is a text of a file, and where it stands.
type word struct {
	text         string
	line, column int
}

// UnmarshalYAML is the YAML package's.
func (w *word) UnmarshalYAML(node ast.Node) error {
	at := node.GetToken().Position
	w.line, w.column = at.Line, at.Column
	switch n := node.(type) {
	case *ast.StringNode:
		w.text = n.Value
	case *ast.LiteralNode:
		w.text = n.Value.Value
	default:
		w.text = node.GetToken().Value
	}
	return nil
}

// faults gathers what is wrong with a file.
type faults struct {
	path string
	all  []fault
}

type fault struct {
	line, column int
	text         string
}

func (f *faults) add(w word, format string, args ...any) {
	f.all = append(f.all, fault{w.line, w.column, fmt.Sprintf(format, args...)})
}

// err tells every fault on a line of its own, in the order of the file.
func (f *faults) err() error {
	if len(f.all) == 0 {
		return nil
	}
	slices.SortStableFunc(f.all, func(a, b fault) int { return cmp.Or(a.line-b.line, a.column-b.column) })
	lines := make([]string, len(f.all))
	for i, x := range f.all {
		lines[i] = fmt.Sprintf("%s:%d:%d: %s", f.path, x.line, x.column, x.text)
	}
	return errors.New(strings.Join(lines, "\n"))
}

// misread says what the YAML package found, without the lines of the file: they
// may hold secrets.
func misread(path string, err error) error {
	var at yaml.Error
	if errors.As(err, &at) && at.GetToken() != nil {
		p := at.GetToken().Position
		message := at.GetMessage()
		if strings.Contains(message, "'\t'") {
			message = "a tab begins the line; YAML is indented with spaces"
		}
		return fmt.Errorf("%s:%d:%d: %s", path, p.Line, p.Column, message)
	}
	return fmt.Errorf("%s cannot be read as YAML: %w", path, err)
}
