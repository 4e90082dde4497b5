package server

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/job"
)

// description is what these tests read of openapi.yaml; the tests of the built program hold
// every answer to it.
type description struct {
	Paths      map[string]struct{ Get, Put, Post, Patch, Delete *operation }
	Components struct {
		Schemas map[string]struct {
			Enum       []string
			Properties map[string]struct{ Enum []string }
		}
	}
}

type operation struct {
	Summary     string
	OperationID string `yaml:"operationId"`
}

func readDescription(t *testing.T) (doc description) {
	require.NoError(t, yaml.Unmarshal(OpenAPI(), &doc))
	return doc
}

// openapi.yaml describes every route and nothing else.
func TestDescribed(t *testing.T) {
	var described []string
	for path, item := range readDescription(t).Paths {
		for method, operation := range map[string]*operation{"GET": item.Get, "PUT": item.Put, "POST": item.Post, "PATCH": item.Patch, "DELETE": item.Delete} {
			if operation == nil {
				continue
			}
			described = append(described, method+" "+path)
			assert.NotEmpty(t, operation.Summary, path)
			assert.NotEmpty(t, operation.OperationID, path)
		}
	}
	s, _ := setUp(t)
	parameter := regexp.MustCompile(`:(\w+)`)
	var routed []string
	for _, r := range s.router.Routes() {
		if ofConsole(r.Path) {
			continue
		}
		routed = append(routed, r.Method+" "+parameter.ReplaceAllString(r.Path, "{$1}"))
	}
	assert.ElementsMatch(t, routed, described)
}

func ofConsole(path string) bool {
	return slices.ContainsFunc(consoleRoutes, func(r consoleRoute) bool { return r.Path == path })
}

// The console's router is made of the addresses that the service answers with its page.
func TestRoutesOfConsole(t *testing.T) {
	var b strings.Builder
	b.WriteString("// The addresses of the pages. Written by go generate ./internal/server from consoleRoutes in internal/server/files.go.\nexport const routes = [\n")
	for _, r := range consoleRoutes {
		fmt.Fprintf(&b, "  { path: '%s', page: '%s' },\n", r.Path, r.Page)
	}
	b.WriteString("] as const\n")
	isWritten(t, "shell/routes.ts", b.String())
}

// isWritten holds a file of the console to what it is made from, or writes it.
func isWritten(t *testing.T, name, text string) {
	file := filepath.Join("../../console/src", name)
	if os.Getenv("HMULE_WRITE_CONSOLE") != "" {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	}
	is, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Equal(t, text, string(is), "run: go generate ./internal/server")
}

// Every kind of problem has a status, and a title that no other has.
func TestKinds(t *testing.T) {
	file, err := parser.ParseFile(token.NewFileSet(), "../../job/problem.go", nil, 0)
	require.NoError(t, err)
	var declared []job.Kind
	ast.Inspect(file, func(n ast.Node) bool {
		spec, is := n.(*ast.ValueSpec)
		if !is || len(spec.Values) == 0 {
			return true
		}
		if of, named := spec.Type.(*ast.Ident); named && of.Name == "Kind" {
			word, err := strconv.Unquote(spec.Values[0].(*ast.BasicLit).Value)
			require.NoError(t, err)
			declared = append(declared, job.Kind(word))
		}
		return true
	})
	require.NotEmpty(t, declared)
	assert.ElementsMatch(t, declared, slices.Collect(maps.Keys(statuses)), "every kind is answered with a status")
	titles := map[string]job.Kind{}
	for kind, status := range statuses {
		assert.True(t, status >= 400 && status < 600, "%s: %d", kind, status)
		assert.Empty(t, titles[kind.Title()], "%s has the title of another", kind)
		titles[kind.Title()] = kind
		assert.Regexp(t, `^[A-Z][^.]+$`, kind.Title(), kind)
	}
}

// The words of the wire are those of the tables that the service goes by; the console's types
// are made of them.
func TestWords(t *testing.T) {
	schemas := readDescription(t).Components.Schemas
	var states []string
	for _, s := range job.States() {
		states = append(states, s.String())
	}
	assert.Equal(t, states, schemas["State"].Enum)
	assert.Equal(t, wordsOf(job.Outcomes()), schemas["Outcome"].Enum)
	assert.Equal(t, wordsOf(job.Reasons()), schemas["Job"].Properties["reason"].Enum)
	for _, r := range job.Reasons() {
		assert.NotEmpty(t, r.Meaning(), r)
	}
	var b strings.Builder
	b.WriteString("// The words of states and outcomes. Written by go generate ./internal/server from the tables of job.\nimport type { State } from '../api/client'\n\n")
	b.WriteString("/** States in the order of a job's life, with what a job does in each. */\nexport const means: Record<State, string> = {\n")
	for _, s := range job.States() {
		fmt.Fprintf(&b, "  %s: '%s',\n", s, strings.ToUpper(s.Meaning()[:1])+s.Meaning()[1:])
	}
	b.WriteString("}\nexport const states = Object.keys(means) as State[]\n\n/** How an attempt ended, by its outcome. */\nexport const outcomeWord = {\n")
	for _, o := range job.Outcomes() {
		fmt.Fprintf(&b, "  %s: '%s',\n", o, o.Past())
	}
	b.WriteString("} as const\n")
	isWritten(t, "lib/words.ts", b.String())
}

func wordsOf[T ~string](all []T) (words []string) {
	for _, w := range all {
		words = append(words, string(w))
	}
	return words
}
