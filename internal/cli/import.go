package cli

import (
	"bufio"
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/cli/present"
	"humblemule.example/job"
)

func (a *app) importCommand() *cobra.Command {
	x := &importing{a: a}
	var keep bool
	c := &cobra.Command{
		Use: "import [FILE]", Short: "Take in the jobs, schedules and settings of an export", Args: args(cobra.MaximumNArgs(1)),
		Example: "  hmule import harbour.jsonl --dry-run\n  hmule import dead.jsonl --jobs-only --ids-to ids.csv\n  hmule import",
		Long: `Take in what hmule export has written: jobs with their attempts, results, steps and logs, and the
schedules and settings that are not set here. What is set here in another way stays as it is. FILE is
- for the standard input; without FILE the stores are listed of which jobs were imported.

A job is taken in once, however often its export is imported: so an import that was interrupted is
simply begun again. Jobs get new ids unless the service has had none and --keep-ids is given.
Finished jobs stay finished; those that wait, wait here too; and one that ran when it was exported
waits, and runs again.`,
		RunE: func(c *cobra.Command, given []string) (err error) {
			if x.client, err = a.clientWith(client.RetryFor(time.Minute)); err != nil {
				return err
			}
			if len(given) == 0 {
				return a.listImports(c.Context(), x.client)
			}
			if keep {
				x.req.IDs = api.IDsKeep
			}
			x.path = given[0]
			return x.run(c.Context())
		},
	}
	c.Flags().BoolVar(&x.req.DryRun, "dry-run", false, "tell what would be taken in, and what is wrong, and change nothing")
	c.Flags().BoolVar(&keep, "keep-ids", false, "jobs keep their ids; for a service that has had no job")
	c.Flags().BoolVar(&x.jobsOnly, "jobs-only", false, "leave out settings and schedules")
	c.Flags().BoolVar(&x.partial, "partial", false, "take in an export that was cut off, as far as it goes")
	c.Flags().StringVar(&x.idsTo, "ids-to", "", "write what each id has become to this file, as CSV: from, to")
	return c
}

func (a *app) listImports(ctx context.Context, m *client.Client) error {
	all, err := m.Imports(ctx)
	if err != nil {
		return err
	}
	return a.show(all, names(all.Imports, func(i *api.Import) string { return i.Store }), func(o *present.Out) {
		if len(all.Imports) == 0 {
			o.Line("Nothing was imported.")
			return
		}
		rows := make([][]string, len(all.Imports))
		for i, m := range all.Imports {
			rows[i] = []string{m.Store, fmt.Sprint(m.Jobs), m.IDs, present.Time(m.BegunAt), m.BegunBy}
		}
		o.Table([]present.Column{{Head: "store"}, {Head: "jobs", Right: true}, {Head: "ids"}, {Head: "begun"}, {Head: "by"}}, rows)
	})
}

// importing is the import of a file.
type importing struct {
	a                 *app
	client            *client.Client
	path, idsTo       string
	jobsOnly, partial bool
	req               api.ImportRequest
	// all is how many lines the file has, 0 where that is not known.
	all int64
	ids *csv.Writer

	lines bytes.Buffer
	// from is the number of the first line in lines, and n how many there are.
	from, n int64
	sum     imported
	end     bool
	toldAt  time.Time
}

// imported is what an import has done.
type imported struct {
	Store  string `json:"store"`
	DryRun bool   `json:"dry_run,omitzero"`
	api.Imported
}

// What is sent in one call at most.
const (
	linesInCall = 500
	bytesInCall = 4 << 20
)

func (x *importing) run(ctx context.Context) error {
	in, err := x.open()
	if err != nil {
		return err
	}
	defer in.Close()
	idsFile, err := x.openIDs()
	if err != nil {
		return err
	}
	if err := x.send(ctx, in); err != nil {
		if ctx.Err() != nil {
			return interrupted{"the import was interrupted; begin it again, and it goes on where it was"}
		}
		return err
	}
	if idsFile != nil {
		x.ids.Flush()
		if err := errors.Join(x.ids.Error(), idsFile.name()); err != nil {
			return fmt.Errorf("the jobs are imported; what their ids have become could not be written: %w", err)
		}
	}
	if err := x.a.show(x.sum, nil, x.show); err != nil {
		return err
	}
	switch {
	case len(x.sum.Refused) > 0:
		return fmt.Errorf("%s refused; mend the export and import it again", was(int64(len(x.sum.Refused)), "line"))
	case !x.end && !x.partial:
		return errors.New("the export was cut off: go on with it by hmule export --continue, and import it again")
	}
	return nil
}

// was counts things to which something happened.
func was(n int64, what string) string {
	if n == 1 {
		return many(n, what) + " was"
	}
	return many(n, what) + " were"
}

// open opens the file, and sees that it is a whole export.
func (x *importing) open() (io.ReadCloser, error) {
	if x.path == "-" {
		return io.NopCloser(os.Stdin), nil
	}
	f, err := os.Open(x.path)
	if err != nil {
		return nil, usageError{err}
	}
	s, err := scanExport(f)
	switch {
	case err != nil:
	case s.end == nil && !x.partial:
		err = fmt.Errorf("the export was cut off after %s; go on with it by hmule export --continue, or import what is there with --partial", many(s.jobs, "job"))
	case s.end != nil && s.beyond != s.end.Jobs:
		err = fmt.Errorf("there are %d jobs beyond id %d, and its last line says %d: some are missing; export again", s.beyond, s.end.After, s.end.Jobs)
	}
	if err == nil {
		x.all = s.lines
		err = seek(f, 0)
	}
	if err != nil {
		f.Close()
		return nil, usageError{fmt.Errorf("%s: %w", x.path, err)}
	}
	return f, nil
}

func (x *importing) openIDs() (*intoFile, error) {
	if x.idsTo == "" || x.req.DryRun {
		return nil, nil
	}
	f, err := newFile([]string{x.idsTo})
	if err == nil {
		x.ids = csv.NewWriter(f)
		x.ids.UseCRLF = true
		err = x.ids.Write([]string{"from", "to"})
	}
	return f, err
}

// send sends the lines in parts.
func (x *importing) send(ctx context.Context, r io.Reader) error {
	in := bufio.NewReaderSize(r, 1<<20)
	for number := int64(1); ; number++ {
		text, end := in.ReadBytes('\n')
		if end != nil && !errors.Is(end, io.EOF) {
			return end
		}
		if end == nil { // what follows the last line end was cut off
			if err := x.add(ctx, number, text); err != nil {
				return err
			}
			continue
		}
		if x.req.Export.Store == "" {
			return usageError{errNoExport}
		}
		return x.flush(ctx)
	}
}

// add takes a line, and sends what there is where it is enough.
func (x *importing) add(ctx context.Context, number int64, text []byte) error {
	var line lineHead
	if err := json.Unmarshal(text, &line); err != nil && number == 1 {
		return usageError{errNoExport}
	}
	switch {
	case number == 1 && line.Export == nil:
		return usageError{errNoExport}
	case line.Export != nil:
		x.req.Export, x.sum.Store, x.sum.DryRun = *line.Export, line.Export.Store, x.req.DryRun
		x.sum.IDs, x.sum.Refused = []api.ImportedIDs{}, []api.ImportRefused{}
		_, err := x.client.BeginImport(ctx, x.req)
		return err
	case line.End != nil:
		x.end = true
		return nil
	case line.Setup != nil && x.jobsOnly:
		return nil
	case x.n >= linesInCall || x.n > 0 && x.lines.Len()+len(text) > bytesInCall:
		if err := x.flush(ctx); err != nil {
			return err
		}
	}
	if x.n == 0 {
		x.from = number
	}
	for ; x.from+x.n < number; x.n++ { // a line that is not sent
		x.lines.WriteByte('\n')
	}
	x.lines.Write(text)
	x.n++
	return nil
}

// flush sends the lines that there are.
func (x *importing) flush(ctx context.Context) error {
	if x.n == 0 {
		return nil
	}
	told, err := x.client.ImportLines(ctx, x.req.Export.Store, x.lines.Bytes(), x.req.DryRun)
	var p *job.Problem
	if errors.As(err, &p) && p.Kind == job.TooLarge && x.n == 1 {
		told.Refused, err = []api.ImportRefused{{Line: 1, Errors: []job.FieldError{{Field: "line", Message: "is too long to be sent: " + p.Detail}}}}, nil
	}
	if err != nil {
		return fmt.Errorf("lines %d to %d were not imported; begin again, and what is here is not taken in twice: %w", x.from, x.from+x.n-1, err)
	}
	for i := range told.Refused {
		told.Refused[i].Line += int(x.from) - 1
	}
	s := &x.sum
	s.Jobs, s.There, s.Short, s.Refused = s.Jobs+told.Jobs, s.There+told.There, s.Short+told.Short, append(s.Refused, told.Refused...)
	s.IDs = append(s.IDs, told.IDs...)
	if told.Setup != nil {
		s.Setup = told.Setup
	}
	if err := x.writeIDs(told.IDs); err != nil {
		return err
	}
	done := x.from + x.n - 1
	x.lines.Reset()
	x.n = 0
	if time.Since(x.toldAt) > 2*time.Second {
		if !x.toldAt.IsZero() && x.all > 0 {
			x.a.aside().Hint("%d of %s read.", done, many(x.all, "line"))
		}
		x.toldAt = time.Now()
	}
	return nil
}

func (x *importing) writeIDs(all []api.ImportedIDs) error {
	if x.ids == nil {
		return nil
	}
	for _, ids := range all {
		for id := ids.First; id <= ids.Last; id++ {
			if err := x.ids.Write([]string{strconv.FormatInt(id, 10), strconv.FormatInt(ids.Job+id-ids.First, 10)}); err != nil {
				return err
			}
		}
	}
	return nil
}

// mostRefused is how many wrong lines people are shown.
const mostRefused = 20

func (x *importing) show(o *present.Out) {
	s, verb := &x.sum, "imported"
	if s.DryRun {
		verb = "would be imported"
	}
	o.Line("%s of store %s %s; %s here already.", many(s.Jobs, "job"), s.Store, verb, was(s.There, "job"))
	if s.Short > 0 {
		o.Line("%s finished for longer than such jobs are kept here, and will be removed.", was(s.Short, "job"))
	}
	if set := s.Setup; set != nil {
		showImportedSetup(o, set, s.DryRun)
	}
	for i, r := range s.Refused {
		if i == mostRefused {
			o.Line("And %d more are wrong; --output json shows all.", len(s.Refused)-i)
			break
		}
		o.Line("Line %d%s: %s", r.Line, ofJob(r.Job), faults(r.Errors))
	}
	if s.Jobs > 0 && !s.DryRun {
		o.Hint("hmule queue list")
	}
}

func ofJob(id int64) string {
	if id == 0 {
		return ""
	}
	return fmt.Sprintf(", job %d", id)
}

func faults(all []job.FieldError) string {
	words := make([]string, len(all))
	for i, f := range all {
		words[i] = f.Field + " " + f.Message
	}
	return strings.Join(words, "; ")
}

func showImportedSetup(o *present.Out, set *api.ImportedSetup, dry bool) {
	verb := "Set"
	if dry {
		verb = "Would be set"
	}
	if len(set.Set) > 0 {
		o.Line("%s: %s.", verb, strings.Join(set.Set, ", "))
	}
	if len(set.Differs) > 0 {
		o.Line("Set in another way here, and left so: %s.", strings.Join(set.Differs, ", "))
	}
	if set.Same > 0 {
		o.Line("%d of the settings are the same here.", set.Same)
	}
}
