package house

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// ground are the floors that the core and all else stand on: texts and how they are checked,
// what a job is, and the other shapes of the wire.
var ground = map[string]string{
	"internal/text":       "",
	"internal/machine":    "",
	"internal/nearest":    "",
	"internal/mergepatch": "",
	"internal/veil":       "",
	"internal/check":      "internal/text",
	"job":                 "internal/text internal/check",
	"internal/sentence":   "job",
	"api":                 "job internal/text internal/check internal/sentence internal/veil internal/nearest",
	"internal/fields":     "api",
}

// core says what each room of the core may import of the core, beside the ground, from below
// up: rules without state; the file; what is kept beside it; questions, which never wait for
// the committer; the committer; what all changes of a job go through; the rooms that give
// commands; and the engine, which puts them together.
var core = map[string]string{
	"scope":         "",
	"packed":        "",
	"lifecycle":     "",
	"retry":         "",
	"trend":         "packed",
	"tally":         "",
	"triage":        "words",
	"words":         "",
	"cron":          "",
	"order":         "",
	"limit":         "",
	"forecast":      "",
	"status":        "",
	"alert":         "status",
	"store":         "lifecycle packed words",
	"store/faultfs": "",
	"store/visits":  "",
	"memory":        "lifecycle packed cron limit order trend triage words store tally",
	"read":          "scope lifecycle order trend forecast status alert words store memory",
	"commit":        "scope store memory tally",
	"watch":         "memory read commit",
	"place":         "lifecycle order store memory commit",
	"upkeep":        "lifecycle store memory commit place",
	"after":         "lifecycle store memory commit place",
	"command":       "scope after lifecycle retry triage store memory read commit place",
	"deal":          "after scope lifecycle store memory read commit watch place command",
	"plan":          "lifecycle cron store memory read commit place command",
	"bulk":          "scope store memory read commit watch command notice",
	"mark":          "scope store commit",
	"follow":        "scope store memory commit",
	"past":          "trend triage store memory",
	"backup":        "scope cron store commit",
	"compact":       "scope store commit",
	"session":       "scope store memory commit",
	"transfer":      "scope lifecycle triage store memory read commit place command plan",
	"notice":        "scope store memory read commit command",
	"lookout":       "scope alert store memory read commit notice",
	"call":          "lifecycle store memory commit place",
	"hook":          "scope store memory read commit command",
	"setup":         "scope memory read commit upkeep command plan bulk hook notice",
	"engine":        "after store memory tally read commit watch upkeep command deal plan bulk mark follow backup compact session transfer hook call notice lookout scope setup",
}

// beside says it of the rooms beside the core.
var beside = map[string]string{
	"client":               "",
	"worker":               "",
	"worker/workertest":    "worker",
	"internal/shell":       "worker",
	"internal/proof":       "",
	"internal/secrets":     "",
	"internal/reach":       "",
	"internal/post":        "",
	"internal/calls":       "internal/shell internal/core/engine internal/post internal/proof internal/reach worker",
	"internal/config":      "internal/core/cron internal/secrets internal/reach internal/post",
	"internal/console":     "",
	"internal/harbour":     "internal/proof internal/core/trend internal/core/past worker",
	"internal/meter":       "internal/core/engine",
	"internal/spans":       "internal/core/engine",
	"internal/server":      "internal/proof internal/meter internal/core/retry internal/core/cron internal/core/engine",
	"internal/measure":     "client worker",
	"internal/load":        "client worker",
	"internal/cli/present": "",
	"internal/cli":         "internal/post internal/secrets internal/reach internal/calls internal/core/cron internal/core/engine internal/config client worker internal/shell internal/console internal/harbour internal/server internal/spans internal/cli/present internal/measure internal/load",
	"cmd/hmule":            "internal/cli",
}

// storeys gives what each room may import, by their whole paths.
func storeys() map[string][]string {
	all := map[string][]string{}
	var floor []string
	for room, may := range ground {
		all[room] = strings.Fields(may)
		floor = append(floor, room)
	}
	for room, may := range beside {
		all[room] = append(strings.Fields(may), floor...)
	}
	for room, may := range core {
		below := slices.Clone(floor)
		for _, name := range strings.Fields(may) {
			below = append(below, "internal/core/"+name)
		}
		all["internal/core/"+room] = below
	}
	return all
}

// public are the packages that others may import. They import no others of ours but what they
// carry along on purpose: how values are checked and told.
var public = []string{"job", "api", "client", "worker", "worker/workertest"}

// outside says which packages from elsewhere must not come into a room: the core
// knows no HTTP, no command line and no screen, and SQL lives in the store.
var outside = map[string][]string{
	"internal/core/":  {"net/http", "net", "github.com/gin-gonic/gin", "github.com/spf13/cobra", "os/exec"},
	"job":             {"database/sql"},
	"internal/server": {"database/sql"},
	"worker":          {"net/http", "database/sql"},
}

func TestHouse(t *testing.T) {
	out, err := exec.Command("go", "list", "-json=ImportPath,Name,Imports,Doc", "./...").Output()
	require.NoError(t, err)
	const module = "humblemule.example/"
	storeys := storeys()
	for list := json.NewDecoder(strings.NewReader(string(out))); list.More(); {
		var room struct {
			ImportPath, Name, Doc string
			Imports               []string
		}
		require.NoError(t, list.Decode(&room))
		name := strings.TrimPrefix(room.ImportPath, module)
		if name == "humblemule.example" {
			continue // this test
		}
		allowed, known := storeys[name]
		assert.True(t, known, "%s has no place in the house; give it one in storeys", name)
		assert.True(t, slices.Contains(public, name) || strings.HasPrefix(name, "internal/") || room.Name == "main", "%s can be imported by others; move it under internal", name)
		assert.NotEmpty(t, room.Doc, "%s does not say what it is", name)
		for _, path := range room.Imports {
			if below, ours := strings.CutPrefix(path, module); ours {
				assert.Contains(t, allowed, below, "%s imports %s", name, below)
			}
			if strings.HasPrefix(name, "internal/core/") && !strings.HasPrefix(name, "internal/core/store") {
				assert.NotContains(t, []string{"database/sql", "github.com/mattn/go-sqlite3"}, path, "%s imports %s", name, path)
			}
			for where, never := range outside {
				if name == where || strings.HasSuffix(where, "/") && strings.HasPrefix(name, where) {
					assert.False(t, slices.Contains(never, path), "%s imports %s", name, path)
				}
			}
		}
	}
}

// The map in CONTRIBUTING.md shows every room that all else stands on.
func TestMap(t *testing.T) {
	text, err := os.ReadFile("CONTRIBUTING.md")
	require.NoError(t, err)
	for room := range ground {
		assert.Contains(t, string(text), "`"+strings.TrimPrefix(room, "internal/")+"`", room)
	}
	for room := range core {
		if !strings.Contains(room, "/") {
			assert.Contains(t, string(text), "`"+room+"`", room)
		}
	}
}

// Every link between pages of the documentation leads somewhere, and each page can be reached
// from its contents.
func TestLinks(t *testing.T) {
	out, err := exec.Command("git", "ls-files", "--cached", "--others", "--exclude-standard", "*.md").Output()
	require.NoError(t, err)
	code := regexp.MustCompile("(?s)```.*?```")
	pages := map[string]string{}
	for _, name := range strings.Fields(string(out)) {
		if text, err := os.ReadFile(name); err == nil {
			pages[name] = code.ReplaceAllString(string(text), "")
		}
	}
	link, heading := regexp.MustCompile(`\]\(([^)\s]+)\)`), regexp.MustCompile(`(?m)^#+ (.*)$`)
	linked := map[string]bool{}
	for name, text := range pages {
		for _, found := range link.FindAllStringSubmatch(text, -1) {
			path, anchor, _ := strings.Cut(found[1], "#")
			if strings.Contains(path, "://") {
				continue
			}
			to := name
			if path != "" {
				to = filepath.Join(filepath.Dir(name), path)
			}
			_, err := os.Stat(to)
			assert.NoError(t, err, "%s links to %s", name, found[1])
			if name == "docs/README.md" {
				linked[to] = true
			}
			if anchor == "" {
				continue
			}
			var anchors []string
			for _, h := range heading.FindAllStringSubmatch(pages[to], -1) {
				anchors = append(anchors, regexp.MustCompile(`[^a-z0-9 -]`).ReplaceAllString(strings.ToLower(h[1]), ""))
			}
			assert.Contains(t, anchors, strings.ReplaceAll(anchor, "-", " "), "%s links to %s", name, found[1])
		}
	}
	for name := range pages {
		if strings.HasPrefix(name, "docs/") && name != "docs/README.md" && name != "docs/progress.md" {
			assert.True(t, linked[name], "docs/README.md does not lead to %s", name)
		}
	}
}

// No package lets others change what it goes by: an exported variable is an error, or set by
// the linker.
func TestNoMutableGlobals(t *testing.T) {
	files, err := exec.Command("git", "ls-files", "*.go").Output()
	require.NoError(t, err)
	for _, name := range strings.Fields(string(files)) {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		file, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
		require.NoError(t, err)
		for _, d := range file.Decls {
			all, is := d.(*ast.GenDecl)
			if !is || all.Tok != token.VAR {
				continue
			}
			for _, spec := range all.Specs {
				for _, n := range spec.(*ast.ValueSpec).Names {
					assert.True(t, !n.IsExported() || strings.HasPrefix(n.Name, "Err") || name == "internal/cli/cli.go" && slices.Contains([]string{"Version", "Commit", "Date"}, n.Name), "%s: %s", name, n.Name)
				}
			}
		}
	}
}

// Each package that go.mod requires for code of the house has its reason in CONTRIBUTING, and
// nothing else stands there.
func TestDependencies(t *testing.T) {
	raw, err := exec.Command("go", "mod", "edit", "-json").Output()
	require.NoError(t, err)
	var mod struct {
		Require []struct {
			Path     string
			Indirect bool
		}
	}
	require.NoError(t, json.Unmarshal(raw, &mod))
	var required []string
	for _, r := range mod.Require {
		if !r.Indirect {
			required = append(required, strings.TrimPrefix(r.Path, "github.com/"))
		}
	}
	text, err := os.ReadFile("CONTRIBUTING.md")
	require.NoError(t, err)
	_, table, _ := strings.Cut(string(text), "| package | why |\n|---|---|\n")
	table, _, _ = strings.Cut(table, "\n\n")
	var told []string
	for row := range strings.Lines(table) {
		for i, part := range strings.Split(strings.Split(row, "|")[1], "`") {
			if i%2 == 1 {
				told = append(told, part)
			}
		}
	}
	assert.ElementsMatch(t, required, told)
}
