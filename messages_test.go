package house

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// told are where the messages stand that somebody who runs the service may see: by file, the calls
// whose first text is one. Beside them every text is told that goes to a log as a warning or an
// error.
var told = map[string]*regexp.Regexp{
	"internal/cli/check.go":           regexp.MustCompile(`^f\.add$`),
	"internal/cli/serve.go":           regexp.MustCompile(`^(fmt\.Errorf|errors\.New)$`),
	"internal/cli/listen.go":          regexp.MustCompile(`^(fmt\.Errorf|errors\.New)$`),
	"internal/core/read/check.go":     regexp.MustCompile(`^wrong$`),
	"internal/core/status/status.go":  regexp.MustCompile(`^fmt\.Sprintf$`),
	"internal/core/store/store.go":    regexp.MustCompile(`^fmt\.Errorf$`),
	"internal/core/store/identity.go": regexp.MustCompile(`^fmt\.Errorf$`),
	"internal/core/store/inspect.go":  regexp.MustCompile(`^fmt\.Errorf$`),
	"internal/core/store/sqlite.go":   regexp.MustCompile(`^fmt\.Errorf$`),
	"internal/core/store/migrate.go":  regexp.MustCompile(`^(fmt\.Errorf|errors\.New)$`),
	"internal/core/command/room.go":   regexp.MustCompile(`^fmt\.Sprintf$`),
	"internal/core/backup/rules.go":   regexp.MustCompile(`^fmt\.Sprintf$`),
	"internal/core/commit/commit.go":  regexp.MustCompile(`^fmt\.Errorf$`),
	"internal/spans/spans.go":         regexp.MustCompile(`^fmt\.Errorf$`),
}

// good are messages that tell of nothing that is wrong, and parts of others.
var good = []string{
	"holds", "is valid for", "defines", "are free", "the clocks of the service and of this machine agree", "it answers, with", "the service is set as the file defines", "All is well",
	"dead letter", "known causes", "so far, by", "being", "has schema", "see: hmule dead list", "New cause", "attempts", "came and", "in doubt", "since", "waiting", "ready", "owner_counts, issued", "hmule dead show",
}

// Every message that the service writes, and that check and status tell, is found in the page that
// says what to do about it.
func TestMessagesAreExplained(t *testing.T) {
	raw, err := os.ReadFile("docs/how-to/troubleshooting.md")
	require.NoError(t, err)
	page := string(raw)
	var files []string
	for name := range told {
		files = append(files, name)
	}
	for _, folder := range []string{"internal/core/*", "internal/server", "internal/spans", "internal/cli"} {
		found, err := filepath.Glob(folder + "/*.go")
		require.NoError(t, err)
		files = append(files, found...)
	}
	seen := map[string]bool{}
	for _, name := range files {
		if seen[name] || strings.HasSuffix(name, "_test.go") {
			continue
		}
		seen[name] = true
		file, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
		require.NoError(t, err)
		ast.Inspect(file, func(n ast.Node) bool {
			call, is := n.(*ast.CallExpr)
			if !is {
				return true
			}
			text := firstText(call)
			if text != "" && (told[name] != nil && told[name].MatchString(nameOf(call.Fun)) || ofLog.MatchString(nameOf(call.Fun))) {
				assert.True(t, explained(page, text) || isGood(text), "%s: the page does not explain: %s", name, text)
			}
			return true
		})
	}
	assert.Greater(t, len(seen), 50)
}

// ofLog are calls that write warnings and errors into the log.
var ofLog = regexp.MustCompile(`(?i)\blog\.(Warn|Error)$`)

func isGood(text string) bool {
	for _, part := range good {
		if strings.HasPrefix(text, part) || strings.HasPrefix(text, "%s "+part) || strings.HasPrefix(text, "%d "+part) || strings.HasPrefix(text, "%s of %s") {
			return true
		}
	}
	return false
}

// explained tells whether a part of a message, between what is filled in, stands in a page.
func explained(page, text string) bool {
	const enough = 14
	some := false
	for _, part := range regexp.MustCompile(`%[^a-zA-Z%]*[a-zA-Z]|[:;]`).Split(text, -1) {
		if part = strings.Trim(part, " ,.()"); len(part) >= enough {
			some = true
			if strings.Contains(page, part) {
				return true
			}
		}
	}
	return !some // it only says of what an error is
}

func nameOf(e ast.Expr) string {
	switch f := e.(type) {
	case *ast.Ident:
		return f.Name
	case *ast.SelectorExpr:
		return nameOf(f.X) + "." + f.Sel.Name
	}
	return ""
}

// firstText is the first text among what is passed to a call.
func firstText(call *ast.CallExpr) string {
	for _, arg := range call.Args {
		if lit, is := arg.(*ast.BasicLit); is && lit.Kind == token.STRING {
			if text, err := strconv.Unquote(lit.Value); err == nil && strings.Contains(text, " ") {
				return text
			}
		}
	}
	return ""
}
