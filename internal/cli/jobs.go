package cli

import (
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/internal/cli/present"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

func (a *app) enqueueCommand() *cobra.Command {
	var (
		s                                  job.Spec
		priority, maxAttempts              int
		delay, timeout, runAt, keepResult  string
		startBy                            string
		labels                             map[string]string
		retry, first, ceiling, giveUpAfter string
		lines                              string
		wait                               bool
	)
	c := &cobra.Command{
		Use: "enqueue TASK [PAYLOAD]", Short: "Hand a job to the service",
		Long: `Hand a job to the service. PAYLOAD is JSON, @FILE, or - for standard input.

With --lines FILE many jobs are handed over, a spec a line as JSON: all, or none.
With --wait the command ends when the job is finished; its status is 0 only if it is done.`,
		Args:    args(cobra.RangeArgs(0, 2)),
		Example: "  hmule enqueue --lines arrivals.ndjson\n  hmule enqueue tide.predict '{\"station\":\"lock-gate\",\"date\":\"2026-12-01\"}' --wait\n  hmule enqueue tide.predict '{\"station\":\"inner-quay\",\"date\":\"2026-12-01\"}'\n  hmule enqueue manifest.check @arrival.json --queue berths --delay 10m --label berth=berth-3",
		RunE: func(c *cobra.Command, given []string) error {
			if lines != "" {
				return a.enqueueLines(c, given, lines)
			}
			if len(given) == 0 {
				return usageError{fmt.Errorf("the task is missing; it is used as: %s", c.UseLine())}
			}
			s.Task = given[0]
			if len(given) == 2 {
				payload, err := payloadOf(given[1], c.InOrStdin())
				if err != nil {
					return err
				}
				s.Payload = payload
			}
			if c.Flags().Changed("priority") {
				s.Priority = &priority
			}
			if c.Flags().Changed("max-attempts") {
				s.MaxAttempts = &maxAttempts
			}
			if first != "" || ceiling != "" || giveUpAfter != "" {
				s.Retry = &job.Retry{}
			}
			if retry != "" {
				if s.Retry != nil {
					return usageError{errors.New("--retry stands beside --retry-first, --retry-ceiling or --give-up-after; give it whole")}
				}
				s.Retry = &job.Retry{}
				if err := readJSON("retry", retry, s.Retry); err != nil {
					return err
				}
			}
			s.Labels = labels
			if err := errors.Join(
				readInto("delay", delay, &s.Delay), readInto("timeout", timeout, &s.Timeout), readKeep(keepResult, &s), readInto("run-at", runAt, &s.RunAt), readInto("start-by", startBy, &s.StartBy),
				readRetry(s.Retry, first, ceiling, giveUpAfter),
			); err != nil {
				return err
			}
			m, err := a.client()
			if err != nil {
				return err
			}
			j, err := m.Enqueue(c.Context(), s)
			if err != nil {
				return err
			}
			a.warn(j.Warnings)
			if wait {
				return a.showFinished(c, j.ID)
			}
			return a.show(j, func(o *present.Out) {
				if j.Duplicate {
					o.Line("Job %d answers, which was enqueued before with this key; it is %s.", j.ID, present.State(j.State))
					if !j.SameSpec {
						o.Line("Note: it was asked for otherwise than now.")
					}
					return
				}
				o.Line("Job %d is %s.", j.ID, present.State(j.State))
				o.Hint("hmule why %d", j.ID)
			})
		},
	}
	f := c.Flags()
	f.StringVar(&lines, "lines", "", "file with a spec a line, or - for standard input")
	f.BoolVar(&wait, "wait", false, "wait until the job is finished")
	f.StringVar(&s.Queue, "queue", "", "queue (common)")
	f.IntVar(&priority, "priority", job.DefaultPriority, "0 to 9, 9 goes first")
	f.StringVar(&delay, "delay", "", "wait so long before the first start: 90s, 1h30m, 2d")
	f.StringVar(&runAt, "run-at", "", "not before this time: 2026-11-23T06:00:00Z")
	f.StringVar(&startBy, "start-by", "", "skip it where it has not begun by this time")
	f.StringVar(&s.Lane, "lane", "", "jobs of one lane run one at a time, in their order")
	f.StringVar(&timeout, "timeout", "", "time limit of one attempt")
	f.StringVar(&keepResult, "keep-result", "", "how long the result is kept; as long as the job, unless given")
	f.IntVar(&maxAttempts, "max-attempts", job.DefaultMaxAttempts, "attempts before it is a dead letter; 0 for no limit")
	f.StringVar(&retry, "retry", "", "a whole retry as JSON; see hmule backoff")
	f.StringVar(&first, "retry-first", "", "wait after the first failure (10s)")
	f.StringVar(&ceiling, "retry-ceiling", "", "longest wait between attempts (8h)")
	f.StringVar(&giveUpAfter, "give-up-after", "", "dead when the next attempt would come later than this")
	f.StringVar(&s.Owner, "owner", "", "whom the job is for")
	f.StringVar(&s.Dedupe, "dedupe", "", "when an earlier job with the key answers: unstarted, unfinished, or a duration")
	f.StringVar(&s.Key, "key", "", "a name of your own by which the job is found")
	f.StringToStringVar(&labels, "label", nil, "label, as name=value; may be given again")
	return c
}

// enqueueLines hands over many jobs, all or none.
func (a *app) enqueueLines(c *cobra.Command, given []string, file string) error {
	if len(given) > 0 {
		return usageError{fmt.Errorf("a task stands beside --lines; each line names its own")}
	}
	var raw []byte
	var err error
	if file == "-" {
		raw, err = io.ReadAll(c.InOrStdin())
	} else {
		raw, err = os.ReadFile(file)
	}
	if err != nil {
		return usageError{fmt.Errorf("--lines: %w", err)}
	}
	m, err := a.client()
	if err != nil {
		return err
	}
	answer, err := m.EnqueueLines(c.Context(), raw)
	if err != nil {
		return err
	}
	a.warn(answer.Warnings)
	jobs := answer.Jobs
	return a.show(acted{jobs}, func(o *present.Out) {
		o.Line("%s jobs were taken in, %d to %d.", sentence.Grouped(int64(len(jobs))), jobs[0].ID, jobs[len(jobs)-1].ID)
		o.Hint("hmule jobs")
	})
}

// showFinished waits for a job and shows how it ended.
func (a *app) showFinished(c *cobra.Command, id int64) error {
	j, err := a.await(c.Context(), id)
	if err != nil {
		return err
	}
	if err := a.show(j, func(o *present.Out) { showJob(o, j) }); err != nil {
		return err
	}
	if j.State != job.Done {
		return fmt.Errorf("job %d ended as %s", id, j.State)
	}
	return nil
}

// readInto reads a flag's text into a value that knows how to read itself.
func readInto(flag, text string, v interface{ UnmarshalText([]byte) error }) error {
	if text == "" {
		return nil
	}
	if err := v.UnmarshalText([]byte(text)); err != nil {
		return usageError{fmt.Errorf("--%s: %w", flag, err)}
	}
	return nil
}

func readKeep(text string, s *job.Spec) error {
	if text == "" {
		return nil
	}
	s.KeepResult = new(job.Duration)
	return readInto("keep-result", text, s.KeepResult)
}

func readRetry(r *job.Retry, first, ceiling, giveUpAfter string) error {
	if r == nil {
		return nil
	}
	return errors.Join(readInto("retry-first", first, &r.First), readInto("retry-ceiling", ceiling, &r.Ceiling), readInto("give-up-after", giveUpAfter, &r.GiveUpAfter))
}

func (a *app) jobsCommand() *cobra.Command {
	var f api.Filter
	var states, labels []string
	var order, since, until string
	c := &cobra.Command{
		Use: "jobs", Short: "List jobs, newest first", Args: args(cobra.NoArgs),
		Example: "  hmule jobs --state dead,backoff\n  hmule jobs --queue berths --label berth=berth-3 -o json",
		RunE: func(c *cobra.Command, _ []string) error {
			for _, word := range states {
				s, err := job.ParseState(word)
				if err != nil {
					return usageError{fmt.Errorf("--state: %w", err)}
				}
				f.States = append(f.States, s)
			}
			f.Labels = map[string]string{}
			for _, pair := range labels {
				name, value, ok := strings.Cut(pair, "=")
				if !ok {
					return usageError{fmt.Errorf("--label %q is no pair; write name=value", pair)}
				}
				f.Labels[name] = value
			}
			f.Order = api.Order(order)
			if err := errors.Join(readInto("since", since, &f.Since), readInto("until", until, &f.Until)); err != nil {
				return err
			}
			m, err := a.client()
			if err != nil {
				return err
			}
			page, err := m.Jobs(c.Context(), f)
			if err != nil {
				return err
			}
			return a.show(page, func(o *present.Out) { listJobs(o, page) })
		},
	}
	fl := c.Flags()
	fl.StringSliceVar(&states, "state", nil, "states, such as dead,backoff")
	fl.StringSliceVar(&f.Queues, "queue", nil, "queues")
	fl.StringSliceVar(&f.Tasks, "task", nil, "tasks")
	fl.Int64Var(&f.Cause, "cause", 0, "a cause's id, as hmule dead shows it")
	fl.StringVar(&f.Error, "error", "", "a text that the errors of jobs in backoff or dead hold")
	fl.BoolVar(&f.InDoubt, "in-doubt", false, "with a step that was begun and never finished")
	fl.StringVar(&f.Owner, "owner", "", "owner")
	fl.StringVar(&f.Key, "key", "", "the producer's own name for the job")
	fl.StringArrayVar(&labels, "label", nil, "label, as name=value")
	fl.StringVar(&since, "since", "", "enqueued at or after: 2026-11-23T06:00:00Z")
	fl.StringVar(&until, "until", "", "enqueued before")
	fl.Int64SliceVar(&f.IDs, "id", nil, "ids")
	fl.StringVar(&order, "order", "", "newest, oldest, or next planned")
	fl.IntVar(&f.Limit, "limit", 20, "how many to show, at most 500")
	fl.StringVar(&f.Cursor, "cursor", "", "where the list goes on, as the last one told")
	return c
}

func listJobs(o *present.Out, page api.Page) {
	if len(page.Jobs) == 0 {
		if page.NextCursor != "" {
			o.Line("No such job among the %s that were looked at.", sentence.Grouped(api.MaxSearched))
			o.Hint("hmule jobs --cursor %s with the same filters looks further", page.NextCursor)
			return
		}
		o.Line("There is no such job.")
		o.Hint("hmule enqueue tide.predict '{\"station\":\"inner-quay\",\"date\":\"2026-12-01\"}'")
		return
	}
	rows := make([][]string, len(page.Jobs))
	for i, j := range page.Jobs {
		rows[i] = []string{fmt.Sprint(j.ID), present.State(j.State), j.Task, j.Queue, tries(j), o.Age(j.EnqueuedAt), note(o, j)}
	}
	o.Table([]present.Column{{Head: "id", Right: true}, {Head: "state"}, {Head: "task"}, {Head: "queue"}, {Head: "try"}, {Head: "enqueued"}, {Head: "note"}}, rows)
	if page.Matched != nil && *page.Matched > int64(len(page.Jobs)) {
		o.Hint("%s match; --limit shows more.", sentence.Grouped(*page.Matched))
	}
}

func tries(j job.Job) string {
	switch {
	case j.Tries == 0:
		return ""
	case j.MaxAttempts == 0:
		return fmt.Sprint(j.Tries)
	}
	return sentence.OfMost(j.Tries, j.MaxAttempts)
}

// note is what is most worth knowing about a job in a list.
func note(o *present.Out, j job.Job) string {
	switch {
	case j.State == job.Scheduled:
		return "starts " + o.Age(j.NextAt)
	case j.State == job.Running && j.CancelAskedAt != 0:
		return "asked to end"
	case j.State == job.Running && j.Tries == 1:
		return "since " + strings.TrimSuffix(o.Age(j.StartedAt), " ago")
	case j.State == job.Backoff && j.LastError != nil:
		return "again " + o.Age(j.NextAt) + ": " + j.LastError.Message
	case j.ReasonText != "":
		return j.ReasonText
	case j.State == job.Dead && j.LastError != nil:
		return j.LastError.Message
	}
	return ""
}

func (a *app) jobCommand() *cobra.Command {
	var wait bool
	c := &cobra.Command{
		Use: "job ID", Short: "Show everything about one job", Args: args(cobra.ExactArgs(1)), Example: "  hmule job 42\n  hmule job 42 --wait",
		RunE: func(c *cobra.Command, given []string) error {
			if wait {
				id, err := jobID(given[0])
				if err != nil {
					return err
				}
				return a.showFinished(c, id)
			}
			j, err := a.fetch(c, given[0])
			if err != nil {
				return err
			}
			return a.show(j, func(o *present.Out) { showJob(o, j) })
		},
	}
	c.Flags().BoolVar(&wait, "wait", false, "wait until the job is finished; status 0 only if it is done")
	return c
}

// fetch asks for the job an argument names.
func (a *app) fetch(c *cobra.Command, text string) (job.Job, error) {
	id, err := jobID(text)
	if err != nil {
		return job.Job{}, err
	}
	m, err := a.client()
	if err != nil {
		return job.Job{}, err
	}
	return m.Job(c.Context(), id)
}

func showJob(o *present.Out, j job.Job) {
	o.Line("%s  %s", present.Strong(fmt.Sprintf("Job %d", j.ID)), present.State(j.State))
	o.Text(0, present.Local(j.Says))
	o.Line("")
	labels := make([]string, 0, len(j.Labels))
	for _, name := range slices.Sorted(maps.Keys(j.Labels)) {
		labels = append(labels, name+"="+j.Labels[name])
	}
	at := func(t job.Time) string {
		if t == 0 {
			return ""
		}
		return present.Time(t) + present.Quiet("  "+o.Age(t))
	}
	o.Facts(
		[2]string{"task", j.Task}, [2]string{"queue", j.Queue}, [2]string{"priority", fmt.Sprint(j.Priority)},
		[2]string{"try", tries(j)}, [2]string{"round", round(j)}, [2]string{"schedule", runOf(j.Schedule)}, [2]string{"owner", j.Owner}, [2]string{"lane", j.Lane}, [2]string{"key", j.Key}, [2]string{"labels", strings.Join(labels, "  ")},
		[2]string{"enqueued", at(j.EnqueuedAt)}, [2]string{"started", at(j.StartedAt)}, [2]string{"finished", at(j.FinishedAt)}, [2]string{"next", at(j.NextAt)}, [2]string{"start by", at(j.StartBy)},
		[2]string{"lease ends", at(j.LeaseEndsAt)}, [2]string{"progress", progressOf(j)}, [2]string{"usually", usually(j)},
		[2]string{"payload", string(j.Payload)}, [2]string{"result", string(j.Result)}, [2]string{"result kept", until(j)},
	)
	showSteps(o, j)
	showAttempts(o, j)
	switch {
	case slices.ContainsFunc(j.Attempts, func(t job.Attempt) bool { return t.LogLines > 0 }):
		o.Hint("hmule log %d", j.ID)
	case j.State.Finished() && j.State != job.Done:
		o.Hint("hmule requeue %d", j.ID)
	case !j.State.Finished():
		o.Hint("hmule why %d", j.ID)
	}
}

// progressOf tells how far a running job has come, and since when it has said
// nothing more.
func progressOf(j job.Job) string {
	if j.Progress == nil {
		return ""
	}
	return strings.TrimSpace(fmt.Sprintf("%.0f %%  %s", j.Progress.Percent, j.Progress.Note)) + present.Quiet("  told "+present.Time(j.ReportedAt))
}

func usually(j job.Job) string {
	if j.UsualMS == 0 {
		return ""
	}
	return fmt.Sprintf("half of its task's runs are done within %s, 19 of 20 within %s", spanOf(j.UsualMS), spanOf(j.LongMS))
}

func until(j job.Job) string {
	if j.ResultUntil == 0 {
		return ""
	}
	return "until " + present.Time(j.ResultUntil)
}

func round(j job.Job) string {
	if j.Round == 1 {
		return ""
	}
	return fmt.Sprint(j.Round)
}

// showSteps tells the parts of the work that are done once.
func showSteps(o *present.Out, j job.Job) {
	if len(j.Steps) == 0 {
		return
	}
	o.Line("")
	rows := make([][]string, len(j.Steps))
	for i, s := range j.Steps {
		rows[i] = []string{s.Name, strings.ReplaceAll(s.State, "_", " "), fmt.Sprint(s.Attempt), string(s.Result)}
	}
	o.Table([]present.Column{{Head: "step"}, {Head: "is"}, {Head: "attempt", Right: true}, {Head: "result"}}, rows)
}

func showAttempts(o *present.Out, j job.Job) {
	if len(j.Attempts) == 0 {
		return
	}
	o.Line("")
	rows := make([][]string, len(j.Attempts))
	for i, t := range j.Attempts {
		took, outcome, message := "", string(t.Outcome), ""
		if t.EndedAt != 0 {
			took = fmt.Sprint(int64(t.EndedAt - t.StartedAt))
		} else {
			outcome = "running"
		}
		if t.Error != nil {
			message = t.Error.Type + ": " + t.Error.Message
		}
		rows[i] = []string{fmt.Sprint(t.N), fmt.Sprint(t.Round), t.StartedAt.Go().Local().Format("15:04:05"), took, outcome, t.WorkerName, message}
	}
	o.Table([]present.Column{{Head: "attempt", Right: true}, {Head: "round", Right: true}, {Head: "started"}, {Head: "took ms", Right: true}, {Head: "outcome"}, {Head: "worker"}, {Head: "error"}}, rows)
	if j.AttemptsFolded > 0 {
		o.Hint("%d attempts in between are only counted.", j.AttemptsFolded)
	}
}

func (a *app) whyCommand() *cobra.Command {
	return &cobra.Command{
		Use: "why ID", Short: "Say in one sentence why a job waits, or how it ended", Args: args(cobra.ExactArgs(1)), Example: "  hmule why 42",
		RunE: func(c *cobra.Command, given []string) error {
			j, err := a.fetch(c, given[0])
			if err != nil {
				return err
			}
			told := struct {
				ID      int64     `json:"id"`
				State   job.State `json:"state"`
				Because string    `json:"because"`
			}{j.ID, j.State, j.Says}
			return a.show(told, func(o *present.Out) {
				o.Line("Job %d is %s.", j.ID, present.State(j.State))
				o.Text(0, present.Local(j.Says))
			})
		},
	}
}
