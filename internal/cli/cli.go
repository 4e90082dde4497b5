// Package cli is the command line: it reads what is asked, calls the API or
// starts the service, and writes the answer for people or for programs.
package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"humblemule.example/client"
	"humblemule.example/internal/cli/present"
	"humblemule.example/internal/sentence"
	"humblemule.example/internal/text"
	"humblemule.example/job"
)

// Version is the program's version; the build sets it.
var Version = "0.1.0-dev"

// Exit statuses, told in the help.
const (
	exitOK = iota
	exitRefused
	exitUsage
	exitUnreachable
)

// app is one run of the program.
type app struct {
	out, err io.Writer
	server   string
	output   string
}

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
	fmt.Fprintln(stderr, "hmule:", oneLine(err))
	return status(err)
}

func status(err error) int {
	var usage usageError
	var gone *client.Unreachable
	switch {
	case errors.As(err, &usage), strings.HasPrefix(err.Error(), "unknown command"):
		return exitUsage
	case errors.As(err, &gone):
		return exitUnreachable
	}
	return exitRefused
}

func oneLine(err error) string { return strings.ReplaceAll(text.Visible(err.Error()), "\n", " ") }

func (a *app) root() *cobra.Command {
	cobra.EnableCommandSorting = false
	root := &cobra.Command{
		Use:   "hmule",
		Short: "Keeps background jobs: takes them in, holds them safe, hands them to workers, tries them again",
		Long: `Humble Mule keeps background jobs. One program is the service, its client, worker pools and a demo.

Where the service asks for a token, hmule shows the one in HMULE_TOKEN.

Exit status: 0 done; 1 the service refused; 2 the command line is wrong; 3 no service answers.`,
		SilenceUsage: true, SilenceErrors: true,
		PersistentPreRunE: func(*cobra.Command, []string) error {
			if a.output != "table" && a.output != "json" {
				return usageError{fmt.Errorf("--output %q is unknown; it is table or json", a.output)}
			}
			return nil
		},
	}
	flags := root.PersistentFlags()
	flags.StringVar(&a.server, "server", fromEnv("HMULE_SERVER", client.DefaultServer), "address of the service (HMULE_SERVER)")
	flags.StringVarP(&a.output, "output", "o", "table", "table for people, json for programs")
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return usageError{fmt.Errorf("%w; see: %s --help", err, c.CommandPath())}
	})
	root.CompletionOptions.HiddenDefaultCmd = true
	for _, group := range []struct {
		id, title string
		commands  []*cobra.Command
	}{
		{"start", "Start something:", []*cobra.Command{a.serveCommand(), a.checkCommand(), a.settingsCommand(), a.setupCommand(), a.poolCommand(), a.demoCommand(), a.benchCommand(), a.loadCommand(), a.tokenCommand()}},
		{"jobs", "Jobs:", []*cobra.Command{a.enqueueCommand(), a.jobsCommand(), a.jobCommand(), a.whyCommand(), a.logCommand(), a.startCommand(), a.acceptCommand(), a.endLeaseCommand(), a.cancelCommand(), a.requeueCommand()}},
		{"dead", "Dead letters and many jobs:", []*cobra.Command{a.deadCommand(), a.recoverCommand(), a.actCommand(), a.purgeCommand(), a.operationCommand(), a.actionsCommand()}},
		{"queues", "Queues and tasks:", []*cobra.Command{a.queuesCommand(), a.queueCommand(), a.startsCommand(), a.pauseCommand(), a.resumeCommand(), a.passCommand(), a.tasksCommand(), a.taskCommand(), a.backoffCommand()}},
		{"schedules", "Schedules:", []*cobra.Command{a.comingCommand(), a.schedulesCommand(), a.scheduleCommand(), a.cronCommand()}},
		{"workers", "Workers:", []*cobra.Command{a.workersCommand(), a.workerCommand(), a.askCommand()}},
	} {
		root.AddGroup(&cobra.Group{ID: group.id, Title: group.title})
		for _, c := range group.commands {
			c.GroupID = group.id
			root.AddCommand(c)
		}
	}
	root.AddCommand(a.manCommand(), a.versionCommand())
	return root
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
			return usageError{fmt.Errorf("%w; it is used as: %s", err, c.UseLine())}
		}
		return nil
	}
}

// client makes the client that a command speaks through. A person who waits at a
// prompt is told at once when no service answers.
func (a *app) client() (*client.Client, error) {
	if a.output == "json" {
		return a.exactClient()
	}
	return a.clientWith(client.Patience(0), client.Visible())
}

// exactClient is client for a command that sends what it has read, or that writes it as
// JSON: text stays as it is.
func (a *app) exactClient() (*client.Client, error) {
	return a.clientWith(client.Patience(0))
}

func (a *app) clientWith(options ...client.Option) (*client.Client, error) {
	if file := os.Getenv("HMULE_TOKEN_FILE"); file != "" && os.Getenv("HMULE_TOKEN") == "" {
		options = append(options, client.TokenFile(file))
	}
	m, err := client.New(a.server, append(options, client.Token(os.Getenv("HMULE_TOKEN")))...)
	if err != nil {
		return nil, usageError{err}
	}
	return m, nil
}

// onSecondSignal does something at the next signal to end, once ctx has ended by
// the first.
func onSecondSignal(ctx context.Context, do func()) {
	go func() {
		<-ctx.Done()
		second := make(chan os.Signal, 1)
		signal.Notify(second, os.Interrupt, syscall.SIGTERM)
		<-second
		do()
	}()
}

// show writes v as JSON, or lets people read it.
func (a *app) show(v any, people func(o *present.Out)) error {
	if a.output == "json" {
		return a.writeJSON(v, "  ")
	}
	people(present.New(a.out))
	return nil
}

// writeJSON writes v as JSON, in which nothing commands a terminal.
func (a *app) writeJSON(v any, indent string) error {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.SetIndent("", indent)
	if err := e.Encode(v); err != nil {
		return err
	}
	_, err := a.out.Write(text.EscapeJSON(b.Bytes()))
	return err
}

// warn writes warnings beside what a command answers.
func (a *app) warn(all []job.Warning) {
	for _, w := range all {
		fmt.Fprintln(a.err, "Note: "+text.Visible(w.Message))
	}
}

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
		Use: "version", Short: "Tell this program's version, and the service's where one answers", Args: args(cobra.NoArgs),
		Example: "  hmule version",
		RunE: func(c *cobra.Command, _ []string) error {
			told := struct {
				Program string        `json:"program"`
				Service *client.About `json:"service,omitempty"`
			}{Program: Version}
			m, err := a.client()
			if err != nil {
				return err
			}
			if about, err := m.About(c.Context()); err == nil {
				told.Service = &about
			}
			return a.show(told, func(o *present.Out) {
				o.Line("hmule %s", Version)
				if told.Service != nil {
					o.Line("service %s at %s, store %s", told.Service.Version, a.server, told.Service.Store)
				} else {
					o.Hint("No service answers at %s.", a.server)
				}
			})
		},
	}
}

// jobID reads the id of a job.
func jobID(text string) (int64, error) {
	var id int64
	if n, err := fmt.Sscanf(text, "%d", &id); err != nil || n != 1 || id < 1 || fmt.Sprint(id) != text {
		return 0, usageError{fmt.Errorf("%q is no id of a job; an id is a whole number, as hmule jobs shows it", text)}
	}
	return id, nil
}

// payloadOf reads a payload from an argument: JSON, @FILE, or - for standard
// input.
func payloadOf(text string, stdin io.Reader) (json.RawMessage, error) {
	raw := []byte(text)
	var err error
	switch {
	case text == "-":
		raw, err = io.ReadAll(stdin)
	case strings.HasPrefix(text, "@"):
		raw, err = os.ReadFile(text[1:])
	}
	if err != nil {
		return nil, usageError{fmt.Errorf("the payload cannot be read: %w", err)}
	}
	if !json.Valid(raw) {
		return nil, usageError{fmt.Errorf("the payload is no JSON; put a text in quotes, as in '\"berth-3\"', or give @FILE")}
	}
	return raw, nil
}

// many writes a number with what it counts.
func many(n int64, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return sentence.Grouped(n) + " " + what + "s"
}
