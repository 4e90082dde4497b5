package cli

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/internal/config"
	"humblemule.example/internal/sentence"
	"humblemule.example/internal/server"
	"humblemule.example/job"
)

//go:generate env HMULE_WRITE_REFERENCE=1 go test -run ^TestReference$ .

// The pages of docs/reference are made of what the program goes by: its commands, its
// settings, the kinds of its problems, and the description of its API.
func TestReference(t *testing.T) {
	for name, page := range map[string]string{
		"commands.md": commandsPage(), "settings.md": settingsPage(t), "problems.md": problemsPage(t), "http.md": httpPage(t), "limits.md": limitsPage(),
	} {
		path := filepath.Join("../../docs/reference", name)
		if os.Getenv("HMULE_WRITE_REFERENCE") != "" {
			require.NoError(t, os.WriteFile(path, []byte(page), 0o600))
		}
		is, err := os.ReadFile(path)
		require.NoError(t, err)
		require.Equal(t, page, string(is), "%s is not up to date; run: go generate ./internal/cli", name)
	}
}

const made = "<!-- Written by go generate ./internal/cli. -->\n\n"

func commandsPage() string {
	for _, name := range []string{"HMULE_SERVER", "HMULE_PROFILE", "HMULE_CONFIG", "HMULE_TOKENS", "HMULE_LISTEN"} {
		os.Unsetenv(name) // which are defaults of flags
	}
	var b strings.Builder
	b.WriteString("# Every command\n\n" + made + "[The command line](command-line.md) says what they have in common.\n")
	root := (&app{out: io.Discard, err: io.Discard}).root()
	b.WriteString("\n## Flags of every command\n" + flagsTable(root.PersistentFlags()))
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		for _, sub := range c.Commands() {
			if sub.Hidden || sub.Name() == "help" || sub.Name() == "completion" {
				continue
			}
			if !sub.HasSubCommands() {
				fmt.Fprintf(&b, "\n## %s\n\n%s\n\n```\n%s\n```\n", sub.CommandPath(), described(sub), sub.UseLine())
				if sub.Example != "" {
					fmt.Fprintf(&b, "\n```sh\n%s\n```\n", unindented(sub.Example))
				}
				b.WriteString(flagsTable(sub.LocalNonPersistentFlags()))
			}
			walk(sub)
		}
	}
	walk(root)
	return b.String()
}

// described is the long description of a command, else the short one.
func described(c *cobra.Command) string {
	switch {
	case c.Long == "":
		return c.Short + "."
	case strings.Contains(c.Long, "\n  "): // which holds what is set in
		return "```\n" + c.Long + "\n```"
	}
	return c.Long
}

func unindented(text string) string {
	lines := strings.Split(text, "\n")
	for i := range lines {
		lines[i] = strings.TrimPrefix(lines[i], "  ")
	}
	return strings.Join(lines, "\n")
}

func flagsTable(flags *pflag.FlagSet) string {
	var b strings.Builder
	flags.VisitAll(func(f *pflag.Flag) {
		if f.Hidden || f.Name == "help" {
			return
		}
		if b.Len() == 0 {
			b.WriteString("\n| flag | default | |\n|---|---|---|\n")
		}
		name := "`--" + f.Name + "`"
		if f.Shorthand != "" {
			name += ", `-" + f.Shorthand + "`"
		}
		byDefault := ""
		if f.DefValue != "" && f.DefValue != "[]" && f.DefValue != "false" && f.DefValue != "0" {
			byDefault = "`" + f.DefValue + "`"
		}
		fmt.Fprintf(&b, "| %s | %s | %s |\n", name, byDefault, cellOf(f.Usage))
	})
	return b.String()
}

// cellOf writes a text so that it stands in a table.
func cellOf(text string) string {
	return strings.ReplaceAll(strings.ReplaceAll(text, "|", `\|`), "\n", " ")
}

func settingsPage(t *testing.T) string {
	var b strings.Builder
	b.WriteString("# Every setting\n\n" + made + "[Keep the set-up in one file](../how-to/setup.md) shows how to use them.\n\n## service\n\n| key | variable | flag of `hmule serve` | default | |\n|---|---|---|---|---|\n")
	for _, f := range config.Flags() {
		key := strings.ReplaceAll(f.Name, "-", "_")
		fmt.Fprintf(&b, "| `%s` | `HMULE_%s` | `--%s` | %s | %s |\n", key, strings.ToUpper(key), f.Name, cellOf(f.BuiltIn), cellOf(f.Usage))
	}
	b.WriteString("\nClients read `HMULE_SERVER`, `HMULE_TOKEN`, `HMULE_TOKEN_FILE`, `HMULE_PROFILE`, `HMULE_PROFILES` and `NO_COLOR`; `HMULE_CONFIG` names the set-up file of the service.\n")
	schemas := descriptionOf(t)["components"].(map[string]any)["schemas"].(map[string]any)
	for _, of := range []struct{ title, schema string }{{"retention", "Retention"}, {"backups", "BackupRules"}, {"triage, each rule", "TriageRule"}, {"queues and tasks, each", "Defaults"}, {"retry", "Retry"}, {"schedules, each", "Schedule"}, {"The job of a schedule, and every spec", "Spec"}} {
		schema := schemas[of.schema].(map[string]any)
		fmt.Fprintf(&b, "\n## %s\n\n", of.title)
		if text, is := schema["description"].(string); is {
			b.WriteString(strings.TrimSpace(text) + "\n\n")
		}
		b.WriteString("| key | type | default | |\n|---|---|---|---|\n")
		properties := schema["properties"].(map[string]any)
		for _, name := range slices.Sorted(maps.Keys(properties)) {
			p := properties[name].(map[string]any)
			byDefault := ""
			text, _ := p["description"].(string)
			if before, after, told := strings.Cut(text, "Default: "); told {
				text, byDefault = strings.TrimSpace(before), "`"+strings.TrimSuffix(after, ".")+"`"
			}
			fmt.Fprintf(&b, "| `%s` | %s | %s | %s |\n", name, typeOf(p), byDefault, cellOf(text))
		}
	}
	return b.String()
}

// typeOf names the type of a schema in a few words.
func typeOf(p map[string]any) string {
	if ref, is := p["$ref"].(string); is {
		return strings.ToLower(ref[strings.LastIndexByte(ref, '/')+1:])
	}
	if words, is := p["enum"].([]any); is {
		all := make([]string, len(words))
		for i, w := range words {
			all[i] = fmt.Sprintf("`%v`", w)
		}
		return strings.Join(all, ", ")
	}
	if items, is := p["items"].(map[string]any); is {
		return "list of " + typeOf(items)
	}
	if p["type"] == nil {
		return "any JSON"
	}
	return fmt.Sprint(p["type"])
}

func descriptionOf(t *testing.T) map[string]any {
	var all map[string]any
	require.NoError(t, yaml.Unmarshal(server.OpenAPI(), &all))
	return all
}

// problemsPage tells of the kinds of problems what their comments say.
func problemsPage(t *testing.T) string {
	file, err := parser.ParseFile(token.NewFileSet(), "../../job/problem.go", nil, parser.ParseComments)
	require.NoError(t, err)
	var b strings.Builder
	b.WriteString("# Every type of problem\n\n" + made + "A call that is refused is answered with a problem (RFC 9457): `type`, `title`, `status`, `detail`, and `errors` with the fields at fault. In Go `errors.Is` tells the kind.\n\n| type | status | title | in Go | |\n|---|---|---|---|---|\n")
	ast.Inspect(file, func(n ast.Node) bool {
		spec, is := n.(*ast.ValueSpec)
		if !is || len(spec.Values) == 0 {
			return true
		}
		if of, named := spec.Type.(*ast.Ident); !named || of.Name != "Kind" {
			return true
		}
		word, err := strconv.Unquote(spec.Values[0].(*ast.BasicLit).Value)
		require.NoError(t, err)
		kind := job.Kind(word)
		says := strings.TrimSpace(strings.TrimPrefix(strings.ReplaceAll(spec.Doc.Text(), "\n", " "), spec.Names[0].Name+":"))
		fmt.Fprintf(&b, "| `urn:humblemule:problem:%s` | %d | %s | `job.Err%s` | %s |\n", word, server.StatusOf(kind), kind.Title(), spec.Names[0].Name, cellOf(strings.ToUpper(says[:1])+says[1:]))
		return true
	})
	b.WriteString("\n`about:blank` stands for a problem of HTTP alone, such as a method that a path does not have, or a request that is not valid HTTP. Commands have two types of their own with `-o json`: `urn:humblemule:problem:usage` (the command line is wrong) and `urn:humblemule:problem:unreachable` (no service answers).\n")
	return b.String()
}

// limitsPage lists the bounds of what the service takes.
func limitsPage() string {
	number := func(n int64) string { return sentence.Grouped(n) }
	bytes := func(n int) string {
		switch {
		case n >= 1<<20:
			return fmt.Sprintf("%d MiB", n>>20)
		case n >= 1<<10 && n%(1<<10) == 0:
			return fmt.Sprintf("%d KiB", n>>10)
		}
		return fmt.Sprintf("%s bytes", number(int64(n)))
	}
	var b strings.Builder
	b.WriteString("# Limits\n\n" + made + "A value beyond its limit is refused by name, unless it says here that it is cut. `GET /v1` tells those that a worker needs.\n")
	for _, part := range []struct {
		title string
		rows  [][2]string
	}{
		{"A job", [][2]string{
			{"name of a task, queue or schedule", "128 characters of `a-z 0-9 . _ -`, the first a letter or digit"},
			{"payload", bytes(job.MaxPayloadBytes) + "; `max_payload` sets it, to 8 MiB"},
			{"owner, lane, key", bytes(job.MaxWordBytes) + " each"},
			{"labels", fmt.Sprintf("%d; a name to %s, a value to %s", job.MaxLabels, bytes(job.MaxLabelName), bytes(job.MaxLabelValue))},
			{"priority", fmt.Sprintf("0 to %d", job.MaxPriority)},
			{"`max_attempts`", "0 (no limit) to " + number(job.MaxAttemptLimit)},
			{"a span of time", "to " + job.MaxDuration.String()},
			{"`dedupe` by age", "to " + job.MaxDedupe.String()},
			{"jobs that one waits for", number(job.MaxAfter) + "; their results, as it is handed them, " + bytes(job.MaxInputBytes) + " together"},
			{"attempts that are kept", "the first 10 and the last 90; those between as counts"},
		}},
		{"What a handler reports", [][2]string{
			{"result", bytes(api.MaxResultBytes) + "; a longer one is replaced by `{\"result_dropped\": …}`, and the outcome counts"},
			{"error", fmt.Sprintf("type %s, message %s, stack %s; longer ones are cut", bytes(api.MaxErrorType), bytes(api.MaxErrorMessage), bytes(api.MaxStack))},
			{"reason, note of progress", fmt.Sprintf("%s, %s; longer ones are cut", bytes(api.MaxReasonText), bytes(api.MaxNote))},
			{"log", fmt.Sprintf("the first %d and the last %d lines of an attempt; %s a line, longer ones are cut", api.FirstLines, api.LastLines, bytes(api.MaxLogLine))},
			{"steps", fmt.Sprintf("%d a job; a name to %s", api.MaxSteps, bytes(api.MaxStepName))},
		}},
		{"A request", [][2]string{
			{"body", bytes(server.MaxBody)},
			{"headers", bytes(server.MaxHeader)},
			{"specs of a bulk enqueue", number(job.MaxSpecs)},
			{"jobs of a batch", fmt.Sprintf("%s a call, which may wait for one another %s times; a ref to %s", number(api.MaxBatchJobs), number(api.MaxBatchEdges), bytes(job.MaxRef))},
			{"jobs of a batch that a schedule starts", number(api.MaxScheduledJobs) + " with the last one"},
			{"jobs that one waits for", fmt.Sprintf("%s; their results are handed over up to %s together", number(job.MaxAfter), bytes(job.MaxInputBytes))},
			{"jobs of a batch that are laid out, or whose end is foretold", number(api.MaxBatchGraph)},
			{"jobs listed of an owner", fmt.Sprintf("%d that run, %d that wait, %d that have ended", api.MaxOwned, api.MaxOwned, api.MaxOwned)},
			{"items of a lease, extend or settle", number(api.MaxLeaseItems)},
			{"length of a lease", api.MinLease.String() + " to " + api.MaxLease.String()},
			{"`wait`", "to " + api.MaxWait.String()},
			{"page of a list", fmt.Sprintf("%d rows", api.MaxPage)},
			{"ids of an action", number(api.MaxInCall)},
		}},
		{"Hooks, calls, notices, alerts", [][2]string{
			{"hooks; endpoints", number(api.MaxHooks) + "; " + number(api.MaxEndpoints)},
			{"headers that are kept of a delivery", fmt.Sprint(api.MaxKeptHeaders)},
			{"for how long a delivery is known again", api.HookRemembers.String()},
			{"a call's URL; its headers", fmt.Sprintf("%s; %d", bytes(job.MaxCallURL), job.MaxCallHeaders)},
			{"`timeout` of a call", fmt.Sprintf("1s to %s; %s unless given", job.MaxCallTimeout, job.DefaultCallTimeout)},
			{"what is kept of an answer", "its first 64 KiB; redirects are followed 5 times"},
			{"notices of a job", fmt.Sprint(job.MaxNotify)},
			{"events of an endpoint", fmt.Sprint(api.MaxEventRules)},
			{"rules of alerts; channels", fmt.Sprintf("%d; %d", api.MaxAlertRules, api.MaxAlertChannels)},
			{"for how long an alert can be muted", api.MaxMute.String()},
		}},
		{"Set-up", [][2]string{
			{"`max_running`", "1 to " + number(api.MaxRunningLimit)},
			{"owners with a weight", number(api.MaxOwnerWeights)},
			{"schedules", number(api.MaxSchedules)},
			{"missed times that are made up for", number(api.MaxMissed)},
			{"jobs of a trial", number(api.MaxTrial)},
		}},
	} {
		fmt.Fprintf(&b, "\n## %s\n\n| | |\n|---|---|\n", part.title)
		for _, row := range part.rows {
			fmt.Fprintf(&b, "| %s | %s |\n", row[0], row[1])
		}
	}
	return b.String()
}

func httpPage(t *testing.T) string {
	doc := descriptionOf(t)
	var b strings.Builder
	b.WriteString("# Every operation of the HTTP API\n\n" + made + strings.TrimSpace(doc["info"].(map[string]any)["description"].(string)) + "\n\nThe service describes it in full at `/openapi.json` and `/openapi.yaml`.\n")
	paths := doc["paths"].(map[string]any)
	for _, path := range slices.Sorted(maps.Keys(paths)) {
		for _, method := range []string{"get", "post", "put", "patch", "delete"} {
			o, is := paths[path].(map[string]any)[method].(map[string]any)
			if !is {
				continue
			}
			fmt.Fprintf(&b, "\n## %s %s\n\n%s. %s\n", strings.ToUpper(method), path, strings.TrimSuffix(o["summary"].(string), "."), strings.TrimSpace(o["description"].(string)))
		}
	}
	return b.String()
}
