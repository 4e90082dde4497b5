package cli

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"time"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/cli/present"
	"humblemule.example/job"
)

func (a *app) exportCommand() *cobra.Command {
	var f filter
	var on, jobsOnly bool
	c := &cobra.Command{
		Use: "export FILE", Short: "Write whole jobs, schedules and settings to a file that another service can import", Args: args(cobra.ExactArgs(1)),
		Example: "  hmule export harbour.jsonl\n  hmule export dead.jsonl --state dead --jobs-only\n  hmule export tides.jsonl --continue",
		Long: `Write whole jobs with their attempts, causes of failure, results, steps and logs, the schedules and
the settings to a file, as JSON Lines. Another service can import it, also one of a newer version:
hmule import FILE. FILE is - for the standard output.

Each job is written as it stands when it is read; the service goes on working meanwhile. To move a
service, stop its pools first. An export that was cut off stands in FILE.part; --continue goes on
with it. It takes a keeper's token where the service has tokens.`,
		RunE: func(c *cobra.Command, given []string) error {
			x := &exportFile{a: a, path: given[0]}
			s, err := f.selection()
			if err != nil {
				return err
			}
			x.part = client.ExportPart{Filter: client.Query(api.Filter{
				States: s.States, Queues: s.Queues, Tasks: s.Tasks, Owner: s.Owner, Key: s.Key, Worker: s.Worker, Labels: s.Labels, Cause: s.Cause, Error: s.Error, Since: s.Since, Until: s.Until,
			}), JobsOnly: jobsOnly}
			if x.client, err = a.exactClient(); err != nil {
				return err
			}
			if on {
				if f.given() || jobsOnly {
					return usageError{errors.New("--continue goes on with what the export was of; leave the filter out")}
				}
				err = x.goOn()
			} else {
				err = x.begin()
			}
			if err == nil {
				err = x.fetch(c.Context())
			}
			if err == nil {
				err = x.name()
			}
			if err != nil || x.path == "-" {
				return err
			}
			return a.show(x.told(), nil, x.show)
		},
	}
	f.flags(c)
	c.Flags().BoolVar(&jobsOnly, "jobs-only", false, "leave out settings and schedules")
	c.Flags().BoolVar(&on, "continue", false, "go on with an export to FILE that was cut off")
	return c
}

// exportFile is a file into which an export is written. It takes its name only once it is whole.
type exportFile struct {
	a      *app
	client *client.Client
	path   string
	file   *os.File
	part   client.ExportPart
	// held are the lines of the last job, which are written when it is known that they are all.
	held bytes.Buffer
	head api.ExportHead
	// after is the job up to which all is written, and last the one that is held.
	after, last int64
	jobs        int64
	whole       bool
	toldAt      time.Time
}

func (x *exportFile) partPath() string { return x.path + ".part" }

func (x *exportFile) begin() (err error) {
	if x.path == "-" {
		x.file = os.Stdout
		return nil
	}
	for _, path := range []string{x.path, x.partPath()} {
		if _, err := os.Lstat(path); err == nil {
			return usageError{fmt.Errorf("%s exists already; an export replaces no file, so name another, or go on with one that was cut off by --continue", path)}
		}
	}
	x.file, err = os.OpenFile(x.partPath(), os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
	if err != nil {
		return usageError{fmt.Errorf("%s cannot be written: %w", x.path, err)}
	}
	return nil
}

// goOn opens an export that was cut off, and takes from it the job that may not be whole.
func (x *exportFile) goOn() (err error) {
	if x.file, err = os.OpenFile(x.partPath(), os.O_RDWR, 0); err != nil {
		return usageError{fmt.Errorf("there is no export to go on with: %w", err)}
	}
	cut, err := scanExport(x.file)
	if err != nil {
		return usageError{fmt.Errorf("%s: %w", x.partPath(), err)}
	}
	x.head, x.after, x.jobs = cut.head, cut.before, max(cut.jobs-1, 0)
	keep := cut.lastAt
	if x.after == 0 { // its beginning comes again
		keep, x.jobs = 0, 0
	}
	if err := errors.Join(x.file.Truncate(keep), seek(x.file, keep)); err != nil {
		return err
	}
	x.part.Filter, err = url.ParseQuery(x.head.Filter)
	x.part.JobsOnly, x.part.Through = !cut.setup, x.head.Through
	return err
}

func seek(f *os.File, at int64) error {
	_, err := f.Seek(at, io.SeekStart)
	return err
}

// fetch writes the export, going on where its stream breaks.
func (x *exportFile) fetch(ctx context.Context) error {
	defer func() {
		if x.path != "-" {
			x.file.Close()
		}
	}()
	const longest = time.Minute
	var broken time.Time
	for !x.whole {
		before := x.after
		err := x.fetchOn(ctx)
		var p *job.Problem
		switch {
		case x.whole:
			return nil
		case ctx.Err() != nil:
			return interrupted{x.advice("the export was interrupted")}
		case errors.As(err, &p) && !api.Temporary(p), errors.Is(err, errDisk):
			return err
		case x.after != before || broken.IsZero():
			broken = time.Now()
		case time.Since(broken) > longest:
			return fmt.Errorf("%s: %w", x.advice("the export was cut off"), err)
		}
		x.held.Reset()
		select {
		case <-time.After(time.Second):
		case <-ctx.Done():
		}
	}
	return nil
}

func (x *exportFile) advice(what string) string {
	if x.path == "-" {
		return what
	}
	return fmt.Sprintf("%s after job %d; go on with it: hmule export %s --continue", what, x.after, x.path)
}

// errDisk says that the file could not be written.
var errDisk = errors.New("the export could not be written")

// fetchOn writes what follows what is written.
func (x *exportFile) fetchOn(ctx context.Context) error {
	x.part.After = x.after
	body, err := x.client.ExportAll(ctx, x.part)
	if err != nil {
		return err
	}
	defer body.Close()
	x.last = 0
	in := bufio.NewReaderSize(body, 1<<20)
	for !x.whole {
		text, err := in.ReadBytes('\n')
		if err == nil {
			err = x.take(text)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// lineHead is what of a line of an export has to be known to carry it.
type lineHead struct {
	Export *api.ExportHead  `json:"export"`
	Setup  *json.RawMessage `json:"setup"`
	Job    *struct {
		ID int64 `json:"id"`
	} `json:"job"`
	End *api.ExportEnd `json:"end"`
}

// take writes a line, or holds it back while it is not known whether its job is whole.
func (x *exportFile) take(text []byte) error {
	var line lineHead
	if err := json.Unmarshal(text, &line); err != nil {
		return err
	}
	switch {
	case line.Job != nil:
		if err := x.release(); err != nil {
			return err
		}
		x.last = line.Job.ID
	case line.End != nil:
		if err := x.release(); err != nil {
			return err
		}
		x.whole = true
		x.held.Write(text)
		return x.release()
	case line.Export != nil && x.head.Store == "":
		x.head = *line.Export
		x.part.Through = x.head.Through
	}
	x.held.Write(text)
	if x.last == 0 {
		return x.release()
	}
	return nil
}

// release writes what is held.
func (x *exportFile) release() error {
	if _, err := x.held.WriteTo(x.file); err != nil {
		return fmt.Errorf("%w: %w", errDisk, err)
	}
	if x.last != 0 {
		x.after, x.last = x.last, 0
		x.jobs++
	}
	if now := time.Now(); now.Sub(x.toldAt) > 2*time.Second {
		if x.toldAt.IsZero() {
			x.toldAt = now
		} else if x.toldAt = now; x.path != "-" {
			x.a.aside().Hint("%s exported.", many(x.jobs, "job"))
		}
	}
	return nil
}

// name gives the file its name.
func (x *exportFile) name() error {
	if x.path == "-" {
		return nil
	}
	f, err := os.OpenFile(x.partPath(), os.O_RDWR, 0)
	if err != nil {
		return err
	}
	return (&intoFile{x.path, f}).name()
}

// exported is what an export has written.
type exported struct {
	Path  string `json:"path"`
	Store string `json:"store"`
	Jobs  int64  `json:"jobs"`
	Bytes int64  `json:"bytes"`
}

func (x *exportFile) told() exported {
	e := exported{Path: x.path, Store: x.head.Store, Jobs: x.jobs}
	if info, err := os.Stat(x.path); err == nil {
		e.Bytes = info.Size()
	}
	return e
}

func (x *exportFile) show(o *present.Out) {
	e := x.told()
	o.Line("%s has %s of store %s, %s.", present.Strong(e.Path), many(e.Jobs, "job"), e.Store, bytesOf(e.Bytes))
	o.Hint("hmule import %s --dry-run --server ADDRESS    # what another service would take in", e.Path)
}

// scanned is what a file that holds an export is made of.
type scanned struct {
	head  api.ExportHead
	setup bool
	end   *api.ExportEnd
	// jobs is how many there are, and lines how many of all kinds; beyond counts the jobs since the
	// last place from which it was continued.
	jobs, lines, beyond int64
	// before and last are the ids of the last two jobs, and lastAt where the line of the last begins.
	before, last, lastAt int64
}

var errNoExport = errors.New("this is not an export; hmule export makes one")

// scanExport reads an export through. A last line that was cut off does not count.
func scanExport(r io.Reader) (s scanned, err error) {
	in := bufio.NewReaderSize(r, 1<<20)
	var ids []int64
	for at := int64(0); ; {
		text, end := in.ReadBytes('\n')
		if end != nil && !errors.Is(end, io.EOF) {
			return s, end
		}
		if end != nil {
			if s.lines == 0 {
				return s, errNoExport
			}
			if s.end != nil {
				s.beyond = countBeyond(ids, s.end.After)
			}
			if s.last == 0 {
				s.lastAt = at
			}
			return s, nil
		}
		var line lineHead
		if err := json.Unmarshal(text, &line); err != nil {
			if s.lines == 0 {
				return s, errNoExport
			}
			return s, fmt.Errorf("line %d is not valid JSON: %w", s.lines+1, err)
		}
		switch s.lines++; {
		case s.lines == 1 && line.Export == nil:
			return s, errNoExport
		case line.Export != nil:
			s.head = *line.Export
		case line.Setup != nil:
			s.setup = true
		case line.Job != nil:
			s.jobs++
			s.before, s.last, s.lastAt = s.last, line.Job.ID, at
			ids = append(ids, line.Job.ID)
		case line.End != nil:
			s.end = line.End
		}
		at += int64(len(text))
	}
}

func countBeyond(ids []int64, after int64) (n int64) {
	for _, id := range ids {
		if id > after {
			n++
		}
	}
	return n
}
