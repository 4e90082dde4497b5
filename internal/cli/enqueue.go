package cli

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"regexp"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/cli/present"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

// entered are the parts of a spec as flags.
type entered struct {
	spec                                         job.Spec
	priority, maxAttempts                        int
	delay, timeout, runAt, startBy, keepResult   string
	labels                                       []string
	after                                        []int64
	afterWhen, afterIfNot                        string
	retry, retryFirst, retryCeiling, giveUpAfter string
	call                                         string
}

func (a *app) enqueueCommand() *cobra.Command {
	var e entered
	var lines string
	var wait bool
	c := &cobra.Command{
		Use: "enqueue TASK [PAYLOAD]", Short: "Enqueue a job",
		Long: `Enqueue a job. PAYLOAD is JSON, @FILE, or - for standard input.

With --lines FILE many jobs are enqueued, one spec per line as JSON. Up to 10 000 lines go in
one call, all or none; more lines go in several calls, with progress.
With --wait the command ends when the job is finished; the status is 0 only if it is done.`,
		Args:    args(cobra.RangeArgs(0, 2)),
		Example: "  hmule enqueue tide.predict '{\"station\":\"inner-quay\",\"date\":\"2026-12-01\"}'\n  hmule enqueue tide.predict '{\"station\":\"lock-gate\",\"date\":\"2026-12-01\"}' --wait\n  hmule enqueue manifest.check '{\"manifest\":\"heron-0291\"}' --queue berths --delay 10m --label berth=berth-3\n  hmule enqueue --lines arrivals.ndjson\n  hmule enqueue notice.publish '{\"about\":\"heron-0291\"}' --after 41,42\n  hmule enqueue press.tell --call '{\"url\":\"http://127.0.0.1:9911/notices\",\"body\":{\"about\":\"heron-0291\"}}'",
		RunE: func(c *cobra.Command, given []string) error {
			if lines != "" {
				return a.enqueueLines(c, given, lines)
			}
			if len(given) == 0 {
				return usageError{fmt.Errorf("the task is missing; use it as: %s", c.UseLine())}
			}
			s, err := e.specOf(c, given)
			if err != nil {
				return err
			}
			return a.enqueue(c, s, wait)
		},
	}
	c.Flags().StringVar(&lines, "lines", "", "file with a spec per line, or - for standard input")
	c.Flags().BoolVar(&wait, "wait", false, "wait until the job is finished")
	e.flags(c)
	return c
}

func (e *entered) flags(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&e.spec.Queue, "queue", "", "queue (default: the task's queue, else common)")
	f.IntVar(&e.priority, "priority", job.DefaultPriority, "0 to 9; 9 goes first")
	f.StringVar(&e.delay, "delay", "", "wait before the first start: 90s, 1h30m, 2d")
	f.StringVar(&e.runAt, "run-at", "", "not before this time: 2026-11-23T06:00:00Z, 18:30, tomorrow")
	f.StringVar(&e.startBy, "start-by", "", "skip the job if it has not started by this time")
	f.StringVar(&e.spec.Lane, "lane", "", "jobs of one lane run one at a time, in order")
	f.StringVar(&e.timeout, "timeout", "", "time limit of one attempt")
	f.StringVar(&e.keepResult, "keep-result", "", "how long the result is kept (default: as long as the job)")
	f.IntVar(&e.maxAttempts, "max-attempts", job.DefaultMaxAttempts, "attempts before the job is a dead letter; 0 for no limit")
	f.StringVar(&e.retry, "retry", "", "a whole retry as JSON; see hmule explain retry")
	f.StringVar(&e.retryFirst, "retry-first", "", "wait after the first failure (default 10s)")
	f.StringVar(&e.retryCeiling, "retry-ceiling", "", "longest wait between attempts (default 8h)")
	f.StringVar(&e.giveUpAfter, "give-up-after", "", "dead if the next attempt would come later than this")
	f.StringVar(&e.spec.Owner, "owner", "", "whom the job is for")
	f.StringVar(&e.spec.Key, "key", "", "a name of your own by which the job is found")
	f.StringVar(&e.spec.Dedupe, "dedupe", "", "when an earlier job with the key answers: unstarted, unfinished, or a duration")
	f.Int64SliceVar(&e.after, "after", nil, "ids of jobs that it waits for, such as 41,42")
	f.StringVar(&e.afterWhen, "after-when", "", "with --after: done (each is done) or finished (each has ended); default done")
	f.StringVar(&e.afterIfNot, "after-if-not", "", "with --after, where one ends otherwise: hold or cancel; default hold")
	f.StringVar(&e.call, "call", "", "a request that the service makes itself, as JSON or @FILE, in the place of a payload")
	f.StringArrayVar(&e.labels, "label", nil, "label, as NAME=VALUE; repeat it for several")
}

// specOf reads the spec that arguments and flags make.
func (e *entered) specOf(c *cobra.Command, given []string) (s job.Spec, err error) {
	s = e.spec
	s.Task = given[0]
	if len(given) == 2 {
		if s.Payload, err = payloadOf(given[1], c.InOrStdin()); err != nil {
			return s, err
		}
	}
	if e.call != "" {
		raw, err := payloadOf(e.call, c.InOrStdin())
		if err != nil {
			return s, err
		}
		s.Call = new(job.Call)
		if err := readJSON("call", string(raw), s.Call); err != nil {
			return s, err
		}
	}
	if c.Flags().Changed("priority") {
		s.Priority = &e.priority
	}
	if c.Flags().Changed("max-attempts") {
		s.MaxAttempts = &e.maxAttempts
	}
	if len(e.after) > 0 || e.afterWhen+e.afterIfNot != "" {
		s.After = &job.After{Jobs: e.after, When: job.AfterWhen(e.afterWhen), IfNot: job.AfterIfNot(e.afterIfNot)}
	}
	var wrong []error
	note := func(err error) { wrong = append(wrong, err) }
	s.Labels, err = labelsOf(e.labels)
	note(err)
	now := time.Now()
	s.RunAt, err = timeOf("run-at", e.runAt, now, ahead)
	note(err)
	s.StartBy, err = timeOf("start-by", e.startBy, now, ahead)
	note(err)
	note(readInto("delay", e.delay, &s.Delay))
	note(readInto("timeout", e.timeout, &s.Timeout))
	if e.keepResult != "" {
		s.KeepResult = new(job.Duration)
		note(readInto("keep-result", e.keepResult, s.KeepResult))
	}
	s.Retry, err = e.retryOf()
	note(err)
	return s, errors.Join(wrong...)
}

// retryOf reads a retry, given whole or in parts; nil where none is.
func (e *entered) retryOf() (*job.Retry, error) {
	parts := e.retryFirst + e.retryCeiling + e.giveUpAfter
	switch {
	case e.retry != "" && parts != "":
		return nil, usageError{errors.New("--retry cannot be combined with --retry-first, --retry-ceiling or --give-up-after; give it whole")}
	case e.retry != "":
		r := new(job.Retry)
		return r, readJSON("retry", e.retry, r)
	case parts == "":
		return nil, nil
	}
	r := new(job.Retry)
	return r, errors.Join(readInto("retry-first", e.retryFirst, &r.First), readInto("retry-ceiling", e.retryCeiling, &r.Ceiling), readInto("give-up-after", e.giveUpAfter, &r.GiveUpAfter))
}

func (a *app) enqueue(c *cobra.Command, s job.Spec, wait bool) error {
	m, err := a.client()
	if err != nil {
		return err
	}
	told, err := m.Enqueue(c.Context(), s)
	if err != nil {
		return err
	}
	a.warn(told.Warnings)
	if wait {
		return a.showFinished(c, told.ID)
	}
	return a.show(told, []string{fmt.Sprint(told.ID)}, func(o *present.Out) {
		if told.Duplicate {
			o.Line("Job %d already has this key, so nothing was enqueued; it is %s.", told.ID, present.State(told.State))
			if !told.SameSpec {
				o.Line("Note: it differs from your request.")
			}
			return
		}
		switch {
		case told.NextAt != 0:
			o.Line("Job %d is %s in queue %s; it starts %s.", told.ID, present.State(told.State), told.Queue, o.Age(told.NextAt))
		default:
			o.Line("Job %d is %s in queue %s.", told.ID, present.State(told.State), told.Queue)
		}
		o.Hint("hmule job show %d", told.ID)
	})
}

// What one call of many lines holds at most. A call is sent whole, so that it stays well
// below the largest body that the service reads.
const (
	partLines = job.MaxSpecs
	partBytes = 8 << 20
)

// enqueueLines enqueues many jobs, in parts of which each is taken in whole or not at all.
func (a *app) enqueueLines(c *cobra.Command, given []string, file string) error {
	if len(given) > 0 {
		return usageError{fmt.Errorf("a task cannot be combined with --lines; each line names its own")}
	}
	in := c.InOrStdin()
	if file != "-" {
		f, err := os.Open(file)
		if err != nil {
			return usageError{fmt.Errorf("--lines: %w", err)}
		}
		defer f.Close()
		in = f
	}
	m, err := a.exactClient()
	if err != nil {
		return err
	}
	told, err := a.sendParts(c.Context(), m, in)
	a.warn(told.Warnings)
	if err != nil && len(told.Jobs) == 0 {
		return err
	}
	failed := a.show(told, numbers(told.Jobs, func(j *api.Enqueued) int64 { return j.ID }), func(o *present.Out) {
		n := len(told.Jobs)
		o.Line("%s enqueued, %d to %d.", sentence.Count(int64(n), "job was", "jobs were"), told.Jobs[0].ID, told.Jobs[n-1].ID)
		o.Hint("hmule job list")
	})
	return errors.Join(failed, err)
}

// sendParts sends the lines of a file in parts, and tells what became of each job.
func (a *app) sendParts(ctx context.Context, m *client.Client, in io.Reader) (all api.EnqueuedMany, err error) {
	read := bufio.NewReaderSize(in, 64<<10)
	aside := a.aside()
	sent := 0 // lines
	for {
		part, n, end, err := nextPart(read)
		if err != nil {
			return all, usageError{fmt.Errorf("--lines: %w", err)}
		}
		if len(bytes.TrimSpace(part)) > 0 {
			told, err := m.EnqueueLines(ctx, part)
			if err != nil {
				err = shifted(err, sent)
				if len(all.Jobs) > 0 {
					err = fmt.Errorf("of lines %d to %d nothing was enqueued: %w", sent+1, sent+n, err)
				}
				return all, err
			}
			all.Jobs = append(all.Jobs, told.Jobs...)
			all.Warnings = append(all.Warnings, told.Warnings...)
		}
		sent += n
		if end {
			if len(all.Jobs) == 0 {
				return all, usageError{errors.New("--lines: there is no job; write a spec per line, such as {\"task\":\"log.pack\"}")}
			}
			return all, nil
		}
		aside.Hint("%s enqueued so far", sentence.Count(int64(len(all.Jobs)), "job", "jobs"))
	}
}

// nextPart reads the lines of the next call. Empty lines stay, so that line numbers hold.
func nextPart(in *bufio.Reader) (part []byte, n int, end bool, err error) {
	for n < partLines && len(part) < partBytes {
		line, err := in.ReadBytes('\n')
		if len(line) > 0 {
			part = append(append(part, bytes.TrimRight(line, "\r\n")...), '\n')
			n++
		}
		if errors.Is(err, io.EOF) {
			return part, n, true, nil
		}
		if err != nil {
			return nil, 0, false, err
		}
	}
	return part, n, false, nil
}

// places are where an error says in which line, or at which place of the call, something is.
var places = []*regexp.Regexp{regexp.MustCompile(`^(line )(\d+)`), regexp.MustCompile(`(, in line )(\d+)$`), regexp.MustCompile(`^(\[)(\d+)`)}

// shifted puts the line numbers of an error where they are in the whole file.
func shifted(err error, by int) error {
	var p *job.Problem
	if by == 0 || !errors.As(err, &p) {
		return err
	}
	shift := func(text string) string {
		for _, place := range places {
			if at := place.FindStringSubmatchIndex(text); at != nil {
				n, _ := strconv.Atoi(text[at[4]:at[5]])
				return text[:at[4]] + strconv.Itoa(n+by) + text[at[5]:]
			}
		}
		return text
	}
	moved := &job.Problem{Kind: p.Kind, Detail: shift(p.Detail)}
	for _, f := range p.Fields {
		moved.Fields = append(moved.Fields, job.FieldError{Field: shift(f.Field), Message: shift(f.Message)})
	}
	return moved
}

// showFinished waits for a job and shows how it ended.
func (a *app) showFinished(c *cobra.Command, id int64) error {
	j, err := a.waitFor(c.Context(), id)
	if err != nil {
		return err
	}
	if err := a.show(j, []string{fmt.Sprint(j.ID)}, func(o *present.Out) { showJob(o, j) }); err != nil {
		return err
	}
	if j.State != job.Done {
		return fmt.Errorf("job %d is %s", id, j.State)
	}
	return nil
}

// waitFor waits until a job is finished, and tells people meanwhile how it stands.
func (a *app) waitFor(ctx context.Context, id int64) (job.Job, error) {
	m, err := a.client()
	if err != nil {
		return job.Job{}, err
	}
	aside := a.aside()
	for {
		j, err := m.WaitFor(ctx, id, 25*time.Second)
		if ctx.Err() != nil {
			return j, interrupted{fmt.Sprintf("job %d goes on without this command; see: hmule job show %d, or stop it: hmule job cancel %d", id, id, id)}
		}
		if err != nil || j.State.Finished() {
			return j, err
		}
		aside.Hint("Job %d is %s. %s", id, j.State, present.Local(j.WaitingBecause))
	}
}
