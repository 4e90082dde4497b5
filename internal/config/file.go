package config

import (
	"fmt"
	"os"

	"github.com/goccy/go-yaml/parser"

	"humblemule.example/job"
)

// wholeFile is how the entry of a whole file is named in what is wrong.
const wholeFile = "the file"

// Into reads a whole file of YAML into a value that is an object in JSON, and has it checked.
// All that is wrong is told at once, each with its line, its column and the nearest name.
func Into[T any](path string, into *T, check func() []job.FieldError) error {
	raw, err := os.ReadFile(path)
	if err != nil {
		return fmt.Errorf("the file cannot be read: %w", err)
	}
	if err := bounded(path, raw); err != nil {
		return err
	}
	file, err := parser.ParseBytes(raw, 0, parser.AllowDuplicateMapKey())
	if err != nil {
		return misread(path, err)
	}
	if len(file.Docs) != 1 || file.Docs[0].Body == nil {
		return fmt.Errorf("%s holds nothing, or several documents; put everything into one", path)
	}
	r := setupReader{faults: faults{path: path}}
	body := file.Docs[0].Body
	of := entry{wholeFile, body, body}
	if !isMapping(body) {
		r.at(body, "the file is not a mapping of names to values")
	} else {
		read(&r, of, into, check)
	}
	return r.err()
}
