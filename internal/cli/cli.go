// Package cli is the command line: it reads what is asked, calls the API or starts the
// service, and writes the answer for people or for programs. Commands are a noun and a verb;
// what everybody types first has no noun.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"runtime/debug"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/cli/present"
	"humblemule.example/internal/config"
	"humblemule.example/internal/core/engine"
	"humblemule.example/internal/nearest"
	"humblemule.example/internal/sentence"
)

// Version is the program's version, Commit what it was built of and Date when that was made; the
// build sets them. Where it does not, they are what Go has noted.
var (
	Version      = "0.2.0-dev"
	Commit, Date string
)

func init() {
	for into, what := range map[*string]string{&Commit: "vcs.revision", &Date: "vcs.time"} {
		if *into == "" {
			*into = builtOf(what)
		}
	}
}

// builtOf tells what Go has noted of the source when the program was built in its repository.
func builtOf(what string) string {
	if info, known := debug.ReadBuildInfo(); known {
		for _, s := range info.Settings {
			if s.Key == what {
				return s.Value
			}
		}
	}
	return "unknown"
}

// versionLine names the program.
func versionLine() string {
	commit, date := Commit, Date
	if len(commit) > 12 {
		commit = commit[:12]
	}
	if at, err := time.Parse(time.RFC3339, Date); err == nil {
		date = at.Format(time.DateOnly)
	}
	return fmt.Sprintf("hmule %s (commit %s of %s), %s", Version, commit, date, engine.Driver)
}

// Exit statuses, told in the help.
const (
	exitOK = iota
	exitRefused
	exitUsage
	exitUnreachable
	exitInterrupted = 130
)

// app is one run of the program.
type app struct {
	out, err io.Writer
	server   string
	profile  string
	output   string
	quiet    bool
	noColor  bool
	logLevel string
	logForm  string
	// target is the service that is spoken to, once it is known.
	target *config.Profile
}

// errSaid ends a command with status 1 where all is said already.
var errSaid = errors.New("said already")

// usageError is a command line that cannot be understood.
type usageError struct{ error }

// Main runs the command line and answers the exit status.
func Main(args []string, stdout, stderr io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	a := &app{out: stdout, err: stderr}
	root := a.root()
	root.SetArgs(args)
	root.SetOut(stdout)
	root.SetErr(stderr)
	err := root.ExecuteContext(ctx)
	if err == nil {
		return exitOK
	}
	if !errors.Is(err, errSaid) {
		a.tellError(err)
	}
	return status(err)
}

func status(err error) int {
	var usage usageError
	var left interrupted
	switch {
	case errors.As(err, &left):
		return exitInterrupted
	case errors.As(err, &usage):
		return exitUsage
	case errors.Is(err, client.ErrUnreachable):
		return exitUnreachable
	}
	return exitRefused
}

func (a *app) root() *cobra.Command {
	cobra.EnableCommandSorting = false
	root := &cobra.Command{
		Use:   "hmule",
		Short: "Keep background jobs: enqueue them, run them, retry them, watch them",
		Long: `Humble Mule runs background jobs. One program is the service, its client, a worker pool and a demo.

A command is a noun and a verb, such as hmule job list. Where the service asks for a token,
hmule sends the one in HMULE_TOKEN, or of the profile that --profile names.

Exit status: 0 done; 1 the service refused; 2 the command line is wrong; 3 no service answers;
130 interrupted while waiting.`,
		Version:      Version,
		SilenceUsage: true, SilenceErrors: true,
		PersistentPreRunE: func(*cobra.Command, []string) error { return a.checkFlags() },
		RunE:              group,
		Args:              cobra.ArbitraryArgs,
	}
	root.SetVersionTemplate(versionLine() + "\n")
	flags := root.PersistentFlags()
	flags.StringVar(&a.server, "server", "", "address of the service (HMULE_SERVER; else "+client.DefaultServer+")")
	flags.StringVar(&a.profile, "profile", fromEnv("HMULE_PROFILE", ""), "a service named in the profiles file (HMULE_PROFILE)")
	flags.StringVarP(&a.output, "output", "o", "table", "table for people; json or ids for programs")
	flags.BoolVarP(&a.quiet, "quiet", "q", false, "write no hints and no progress")
	flags.BoolVar(&a.noColor, "no-color", false, "write no colour (NO_COLOR)")
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return usageError{fmt.Errorf("%w; see: %s --help", err, c.CommandPath())}
	})
	// A noun runs only to refuse a word that is none of its verbs.
	root.SetUsageTemplate(strings.Replace(root.UsageTemplate(), "{{if .Runnable}}", "{{if and .Runnable (not .HasAvailableSubCommands)}}", 1))
	root.CompletionOptions.HiddenDefaultCmd = true
	for _, group := range []struct {
		id, title string
		commands  []*cobra.Command
	}{
		{"start", "Start here:", []*cobra.Command{a.serveCommand(), a.poolCommand(), a.devCommand(), a.demoCommand(), a.enqueueCommand(), a.statusCommand(), a.watchCommand(), a.checkCommand(), a.readyCommand(), a.versionCommand()}},
		{"work", "Jobs, and what became of them:", []*cobra.Command{a.jobCommand(), a.batchCommand(), a.ownerCommand(), a.deadCommand(), a.alertCommand(), a.operationCommand(), a.actionCommand(), a.historyCommand(), a.markCommand(), a.followCommand()}},
		{"house", "Queues, tasks, schedules, hooks, endpoints, workers:", []*cobra.Command{a.queueCommand(), a.laneCommand(), a.taskCommand(), a.scheduleCommand(), a.hookCommand(), a.endpointCommand(), a.workerCommand()}},
		{"more", "Set-up, backups, explanations, measurements:", []*cobra.Command{a.setupCommand(), a.tokenCommand(), a.sessionCommand(), a.backupCommand(), a.compactCommand(), a.exportCommand(), a.importCommand(), a.explainCommand(), a.benchCommand(), a.loadCommand()}},
	} {
		root.AddGroup(&cobra.Group{ID: group.id, Title: group.title})
		for _, c := range group.commands {
			c.GroupID = group.id
			root.AddCommand(c)
		}
	}
	root.AddCommand(a.manCommand())
	a.complete(root)
	return root
}

// noun makes a command that only holds verbs.
func noun(use, short string, verbs ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, RunE: group, Args: cobra.ArbitraryArgs}
	c.AddCommand(verbs...)
	return c
}

// group shows the help of a command that holds others, and refuses a word that is none of
// them.
func group(c *cobra.Command, given []string) error {
	if len(given) == 0 {
		return c.Help()
	}
	var names []string
	for _, sub := range c.Commands() {
		if !sub.Hidden {
			names = append(names, sub.Name())
		}
	}
	if c.HasParent() {
		return usageError{fmt.Errorf("%q is not a command of %s%s; the commands are %s", given[0], c.CommandPath(), sentence.Perhaps(nearest.To(given[0], names)), sentence.List(names))}
	}
	return usageError{fmt.Errorf("%q is not a command of hmule%s; see: hmule --help", given[0], sentence.Perhaps(nearest.To(given[0], names)))}
}

func (a *app) checkFlags() error {
	if !slices.Contains(outputs, a.output) {
		return usageError{fmt.Errorf("--output %q is unknown; it is %s", a.output, sentence.Or(outputs))}
	}
	present.NoColor(a.noColor)
	return nil
}

func fromEnv(name, otherwise string) string {
	if v := os.Getenv(name); v != "" {
		return v
	}
	return otherwise
}

// args makes a check of arguments a usage error that shows the form.
func args(check cobra.PositionalArgs) cobra.PositionalArgs {
	return func(c *cobra.Command, given []string) error {
		if err := check(c, given); err != nil {
			return usageError{fmt.Errorf("%w; use it as: %s", err, c.UseLine())}
		}
		return nil
	}
}

// service finds the service that is spoken to: named by --server or HMULE_SERVER, or by a
// profile.
func (a *app) service() (config.Profile, error) {
	if a.target != nil {
		return *a.target, nil
	}
	p := config.Profile{Server: fromEnv("HMULE_SERVER", client.DefaultServer), Token: os.Getenv("HMULE_TOKEN"), TokenFile: os.Getenv("HMULE_TOKEN_FILE")}
	if a.profile != "" {
		named, err := config.ReadProfile(a.profile)
		if err != nil {
			return p, usageError{err}
		}
		p = named
	}
	if a.server != "" {
		p.Server = a.server
	}
	a.target = &p
	return p, nil
}

// client makes the client that a command speaks through. A person who waits at a prompt is
// told at once when no service answers.
func (a *app) client() (*client.Client, error) {
	if a.output != "table" {
		return a.exactClient()
	}
	return a.clientWith(client.RetryFor(0), client.EscapeControls())
}

// exactClient is client for a command that sends what it has read, or that writes it as
// JSON: text stays as it is.
func (a *app) exactClient() (*client.Client, error) {
	return a.clientWith(client.RetryFor(0))
}

func (a *app) clientWith(options ...client.Option) (*client.Client, error) {
	p, err := a.service()
	if err != nil {
		return nil, err
	}
	if p.TokenFile != "" && p.Token == "" {
		options = append(options, client.TokenFile(p.TokenFile))
	}
	m, err := client.New(p.Server, append(options, client.Token(p.Token))...)
	if err != nil {
		return nil, usageError{err}
	}
	return m, nil
}

// logFlags let a command that goes on by itself write its log in another way.
func (a *app) logFlags(c *cobra.Command) {
	c.Flags().StringVar(&a.logLevel, "log-level", "info", "debug, info, warn or error")
	c.Flags().StringVar(&a.logForm, "log-format", "text", "text or json")
}

// log makes the log that the flags ask for.
func (a *app) log() (*slog.Logger, error) {
	options := &slog.HandlerOptions{}
	var level slog.Level
	if err := level.UnmarshalText([]byte(a.logLevel)); err != nil {
		return nil, usageError{fmt.Errorf("--log-level %q is unknown; it is debug, info, warn or error", a.logLevel)}
	}
	options.Level = level
	switch a.logForm {
	case "text":
		return slog.New(slog.NewTextHandler(a.err, options)), nil
	case "json":
		return slog.New(slog.NewJSONHandler(a.err, options)), nil
	}
	return nil, usageError{fmt.Errorf("--log-format %q is unknown; it is text or json", a.logForm)}
}

// onSecondSignal does something at the next signal to end, once ctx has ended by the first.
func onSecondSignal(ctx context.Context, do func()) {
	go func() {
		<-ctx.Done()
		second := make(chan os.Signal, 1)
		signal.Notify(second, os.Interrupt, syscall.SIGTERM)
		<-second
		do()
	}()
}

// interrupted ends a command that was waiting for something that goes on without it.
type interrupted struct{ says string }

func (i interrupted) Error() string { return i.says }

// manCommand writes the man pages. Packagers want it; it is not listed.
func (a *app) manCommand() *cobra.Command {
	return &cobra.Command{
		Use: "man FOLDER", Short: "Write the man pages into a folder", Hidden: true, Args: args(cobra.ExactArgs(1)), Example: "  hmule man /usr/local/share/man/man1",
		RunE: func(c *cobra.Command, given []string) error {
			return doc.GenManTree(c.Root(), &doc.GenManHeader{Title: "HMULE", Section: "1", Source: "Humble Mule " + Version}, given[0])
		},
	}
}

func (a *app) versionCommand() *cobra.Command {
	return &cobra.Command{
		Use: "version", Short: "Show this program's version, and the service's if one answers", Args: args(cobra.NoArgs),
		Example: "  hmule version",
		RunE: func(c *cobra.Command, _ []string) error {
			told := struct {
				Program string     `json:"program"`
				Commit  string     `json:"commit"`
				Date    string     `json:"date"`
				Driver  string     `json:"driver"`
				Service *api.About `json:"service,omitempty"`
			}{Program: Version, Commit: Commit, Date: Date, Driver: engine.Driver}
			m, err := a.client()
			if err != nil {
				return err
			}
			if about, err := m.About(c.Context()); err == nil {
				told.Service = &about
			}
			return a.show(told, nil, func(o *present.Out) {
				o.Line("%s", versionLine())
				if told.Service != nil {
					o.Line("service %s at %s, %s, store %s", told.Service.Version, a.target.Server, told.Service.Driver, told.Service.Store)
					o.Line("you are %s, %s", told.Service.Principal, told.Service.Role)
				} else {
					o.Hint("No service answers at %s.", a.target.Server)
				}
			})
		},
	}
}

// many writes a number with what it counts.
func many(n int64, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return sentence.Grouped(n) + " " + what + "s"
}

// visible lists texts for a sentence.
func lines(err error) []string {
	var all []string
	for line := range strings.Lines(err.Error()) {
		if line = strings.TrimSpace(line); line != "" {
			all = append(all, line)
		}
	}
	return all
}
