package cli

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"os"
	"strings"

	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"

	"humblemule.example/client"
	"humblemule.example/internal/cli/present"
	"humblemule.example/internal/text"
	"humblemule.example/job"
)

// The outputs: what people read, and what programs do.
var outputs = []string{"table", "json", "ids"}

// show writes v as JSON, its ids a line, or lets people read it. Ids are nil where the answer
// has none.
func (a *app) show(v any, ids []string, people func(o *present.Out)) error {
	switch a.output {
	case "json":
		return a.writeJSON(v, "  ")
	case "ids":
		if ids == nil {
			return usageError{errors.New("this command has no ids to write; use --output table or json")}
		}
		for _, id := range ids {
			if _, err := fmt.Fprintln(a.out, text.Visible(id)); err != nil {
				return err
			}
		}
		return nil
	}
	people(a.forPeople(a.out))
	return nil
}

// forPeople is where people read.
func (a *app) forPeople(w io.Writer) *present.Out {
	o := present.New(w)
	o.NoHints = a.quiet
	return o
}

// aside is where progress is told, and what is asked.
func (a *app) aside() *present.Out {
	o := a.forPeople(a.err)
	o.Silent = a.quiet || a.output != "table"
	return o
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

// numbers writes ids as texts; never nil.
func numbers[T any](all []T, id func(*T) int64) []string {
	ids := make([]string, len(all))
	for i := range all {
		ids[i] = fmt.Sprint(id(&all[i]))
	}
	return ids
}

// names are the names of what a list holds; never nil.
func names[T any](all []T, name func(*T) string) []string {
	ids := make([]string, len(all))
	for i := range all {
		ids[i] = name(&all[i])
	}
	return ids
}

// warn writes warnings beside what a command answers.
func (a *app) warn(all []job.Warning) {
	if a.output != "table" || a.quiet {
		return
	}
	for _, w := range all {
		fmt.Fprintln(a.err, "Note: "+text.Visible(w.Message))
	}
}

// tellError writes an error: each of several in a line of its own, or all as one problem
// (RFC 9457) where the output is JSON.
func (a *app) tellError(err error) {
	if a.output == "json" {
		raw, failed := json.Marshal(problemOf(err))
		if failed == nil {
			fmt.Fprintln(a.err, string(text.EscapeJSON(raw)))
			return
		}
	}
	for _, one := range each(err) {
		for _, line := range lines(one) {
			fmt.Fprintln(a.err, "hmule: "+text.Visible(line))
		}
	}
}

// each splits errors that were joined, and a problem that names several fields.
func each(err error) []error {
	var usage usageError
	if errors.As(err, &usage) && error(usage) == err {
		err = usage.error
	}
	if joined, is := err.(interface{ Unwrap() []error }); is {
		var all []error
		for _, one := range joined.Unwrap() {
			all = append(all, each(one)...)
		}
		return all
	}
	var p *job.Problem
	if errors.As(err, &p) && error(p) == err && len(p.Fields) > 1 {
		all := []error{errors.New(p.Detail + ":")}
		for _, f := range p.Fields {
			all = append(all, fmt.Errorf("%s %s", f.Field, f.Message))
		}
		return all
	}
	return []error{err}
}

// problem is an error as RFC 9457 writes it.
type problem struct {
	Type   string           `json:"type"`
	Title  string           `json:"title"`
	Detail string           `json:"detail"`
	Errors []job.FieldError `json:"errors,omitempty"`
}

// problemOf gives an error as a problem. Those of a wrong command line, and of a service that
// does not answer, have types of their own.
func problemOf(err error) problem {
	const urn = "urn:humblemule:problem:"
	var p *job.Problem
	switch {
	case status(err) == exitUsage:
		return problem{Type: urn + "usage", Title: "Wrong command line", Detail: err.Error()}
	case errors.Is(err, client.ErrUnreachable):
		return problem{Type: urn + "unreachable", Title: "No service answers", Detail: err.Error()}
	case errors.As(err, &p):
		return problem{Type: urn + string(p.Kind), Title: p.Kind.Title(), Detail: p.Detail, Errors: p.Fields}
	}
	return problem{Type: "about:blank", Title: "Failed", Detail: err.Error()}
}

// asking are the flags of a command that may change many things.
type asking struct{ yes, dryRun bool }

func (s *asking) flags(c *cobra.Command) {
	c.Flags().BoolVar(&s.yes, "yes", false, "do not ask; for scripts")
	c.Flags().BoolVar(&s.dryRun, "dry-run", false, "count, and change nothing")
}

// errNotDone ends a command that somebody has answered no to.
var errNotDone = errors.New("nothing was changed")

// confirm asks whether to go on. Where nobody can be asked, --yes has to say it.
func (a *app) confirm(c *cobra.Command, yes bool, format string, args ...any) error {
	if yes {
		return nil
	}
	question := fmt.Sprintf(format, args...)
	if !onTerminal(c) {
		return usageError{fmt.Errorf("%s There is no terminal to ask on: add --yes to go on, or --dry-run to see what would change", question)}
	}
	fmt.Fprint(a.err, question+" [y/N] ")
	answer, _ := bufio.NewReader(c.InOrStdin()).ReadString('\n')
	switch strings.ToLower(strings.TrimSpace(answer)) {
	case "y", "yes":
		return nil
	}
	return errNotDone
}

// onTerminal tells whether somebody can be asked.
func onTerminal(c *cobra.Command) bool {
	in, is := c.InOrStdin().(*os.File)
	return is && term.IsTerminal(in.Fd())
}

// listCommand is the verb that shows all of a noun: as a table, as JSON under key, or by their
// ids.
func listCommand[T any](a *app, key, short string, all func(*client.Client, context.Context) ([]T, error), id func(*T) string, table func(*present.Out, []T)) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: short, Args: args(cobra.NoArgs), Example: "  hmule " + strings.TrimSuffix(key, "s") + " list",
		RunE: func(c *cobra.Command, _ []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			list, err := all(m, c.Context())
			if err != nil {
				return err
			}
			return a.show(map[string]any{key: append([]T{}, list...)}, names(list, id), func(o *present.Out) { table(o, list) })
		},
	}
}

// collected reads all pages of a list.
func collected[T any](pages func(*client.Client, context.Context) iter.Seq2[T, error]) func(*client.Client, context.Context) ([]T, error) {
	return func(m *client.Client, ctx context.Context) ([]T, error) { return client.Collect(pages(m, ctx)) }
}

// showCommand shows one thing of a kind by its name, of which one is an example.
func showCommand[T any](a *app, kind, example, short string, get func(*client.Client, context.Context, string) (T, error), show func(*present.Out, T)) *cobra.Command {
	return &cobra.Command{
		Use: "show " + strings.ToUpper(kind), Short: short, Args: args(cobra.ExactArgs(1)), Example: "  hmule " + kind + " show " + example,
		RunE: func(c *cobra.Command, given []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			one, err := get(m, c.Context(), given[0])
			if err != nil {
				return err
			}
			return a.show(one, given, func(o *present.Out) { show(o, one) })
		},
	}
}
