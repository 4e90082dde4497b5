package cli

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/cli/present"
	"humblemule.example/internal/config"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

func (a *app) batchCommand() *cobra.Command {
	return noun("batch", "Enqueue jobs that belong together and wait for one another, and see how they stand",
		a.batchListCommand(), a.batchShowCommand(), a.batchRunCommand(), a.batchCloseCommand(),
		a.batchActCommand("cancel", "Cancel what of a batch is unfinished", api.ActCancel),
		a.batchActCommand("requeue", "Requeue what of a batch is dead; what waits for it goes on by itself", api.ActRequeue),
		a.batchActCommand("discard", "Discard what of a batch is dead", api.ActDiscard))
}

// batchID reads the id of a batch.
func batchID(text string) (int64, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil || id < 1 {
		return 0, usageError{fmt.Errorf("%q is not a valid id of a batch; an id is a whole number, as hmule batch list shows it", text)}
	}
	return id, nil
}

func (a *app) batchListCommand() *cobra.Command {
	var q api.BatchQuery
	var state string
	c := &cobra.Command{
		Use: "list", Short: "List batches, newest first", Args: args(cobra.NoArgs), Example: "  hmule batch list\n  hmule batch list --state stuck    # where somebody has to act",
		RunE: func(c *cobra.Command, _ []string) error {
			q.State = api.BatchState(state)
			m, err := a.client()
			if err != nil {
				return err
			}
			page, err := m.ListBatches(c.Context(), q)
			if err != nil {
				return err
			}
			return a.show(page, numbers(page.Batches, func(b *api.Batch) int64 { return b.ID }), func(o *present.Out) { listBatches(o, page) })
		},
	}
	fl := c.Flags()
	fl.StringVar(&state, "state", "", "running, stuck, done, failed or cancelled")
	fl.StringVar(&q.Name, "name", "", "name")
	fl.StringVar(&q.Owner, "owner", "", "owner")
	fl.IntVar(&q.Limit, "limit", 50, "how many are shown")
	return c
}

func listBatches(o *present.Out, page api.BatchPage) {
	if len(page.Batches) == 0 {
		o.Line("No batch matches.")
		o.Hint("hmule batch run voyage.yaml")
		return
	}
	columns := []present.Column{{Head: "id", Right: true}, {Head: "state"}, {Head: "name"}, {Head: "owner"}, {Head: "jobs", Right: true}, {Head: "ended", Right: true}, {Head: "running", Right: true}, {Head: "dead", Right: true}, {Head: "made"}}
	rows := make([][]string, len(page.Batches))
	for i, b := range page.Batches {
		rows[i] = []string{fmt.Sprint(b.ID), batchState(b), b.Name, b.Owner, sentence.Grouped(b.Jobs), sentence.Grouped(b.Finished), present.Count(b.Counts[job.Running]), present.Count(b.Counts[job.Dead]), o.Age(b.MadeAt)}
	}
	o.Table(columns, rows)
	if page.NextCursor != "" {
		o.Line("There are more; narrow the list, or raise --limit.")
	}
	o.Hint("hmule batch show %d", page.Batches[0].ID)
}

// batchState is how a batch stands, in the colours of the states that are most like it.
func batchState(b api.Batch) string {
	like := map[api.BatchState]job.State{api.BatchRunning: job.Running, api.BatchStuck: job.Dead, api.BatchDone: job.Done, api.BatchFailed: job.Dead, api.BatchCancelled: job.Cancelled}
	text := string(b.State)
	if b.Open {
		text += ", open"
	}
	return present.As(like[b.State], text)
}

func (a *app) batchShowCommand() *cobra.Command {
	var wait string
	c := &cobra.Command{
		Use: "show ID", Short: "Show how a batch stands", Args: args(cobra.ExactArgs(1)), Example: "  hmule batch show 41\n  hmule batch show 41 --wait 5m",
		RunE: func(c *cobra.Command, given []string) error {
			id, err := batchID(given[0])
			if err != nil {
				return err
			}
			var span job.Duration
			if err := readInto("wait", wait, &span); err != nil {
				return err
			}
			m, err := a.client()
			if err != nil {
				return err
			}
			b, err := m.WaitForBatch(c.Context(), id, span.Go())
			if err != nil {
				return err
			}
			return a.showBatch(b)
		},
	}
	c.Flags().StringVar(&wait, "wait", "", "wait so long for all of its jobs to end: 30s, 5m")
	return c
}

func (a *app) showBatch(b api.Batch) error {
	return a.show(b, []string{fmt.Sprint(b.ID)}, func(o *present.Out) { tellBatch(o, b) })
}

func tellBatch(o *present.Out, b api.Batch) {
	o.Line("%s  %s", present.Strong(strings.TrimSpace(fmt.Sprintf("Batch %d %s", b.ID, b.Name))), batchState(b))
	if b.Summary != "" {
		o.Text(0, present.Local(b.Summary))
	}
	o.Line("")
	at := func(t job.Time) string {
		if t == 0 {
			return ""
		}
		return present.Time(t) + present.Quiet("  "+o.Age(t))
	}
	facts := [][2]string{{"owner", b.Owner}, {"made", at(b.MadeAt)}, {"by", b.MadeBy}, {"ended", at(b.FinishedAt)}, {"jobs", fmt.Sprintf("%s, of which %s have ended", sentence.Grouped(b.Jobs), sentence.Grouped(b.Finished))}}
	for _, s := range job.States() {
		if n := b.Counts[s]; n > 0 {
			facts = append(facts, [2]string{"  " + s.String(), sentence.Grouped(n)})
		}
	}
	if b.PercentOfWork != nil {
		facts = append(facts, [2]string{"work", fmt.Sprintf("%g %% of it is done, by usual run times", *b.PercentOfWork)}, [2]string{"expected end", at(b.ExpectedEnd)})
	}
	if b.Last != 0 {
		facts = append(facts, [2]string{"last job", fmt.Sprint(b.Last)})
	}
	o.Facts(facts...)
	o.Hint("hmule job list --batch %d", b.ID)
	if b.Counts[job.Dead] > 0 {
		o.Hint("hmule batch requeue %d    # what died; what waits for it goes on by itself", b.ID)
	}
}

func (a *app) batchRunCommand() *cobra.Command {
	var dry, wait bool
	c := &cobra.Command{
		Use: "run FILE", Short: "Enqueue the jobs of a file as a batch, all or none", Args: args(cobra.ExactArgs(1)),
		Example: "  hmule batch run voyage.yaml --dry-run\n  hmule batch run voyage.yaml --wait",
		Long: `Enqueues the jobs of a file as a batch, all or none. The file is YAML or JSON or, where its name ends in .ndjson, one JSON value per
line: the batch first, then a job in each line. A job names others that it waits for by their refs:

  name: voyage 12
  jobs:
    - {ref: manifest, task: manifest.check, payload: {manifest: heron-0291}}
    - {ref: berth, task: berth.plan, payload: {ship: Heron}, after: {refs: [manifest]}}
  last: {task: notice.publish}

With --dry-run nothing is enqueued: what is wrong is told, or in which levels the jobs would run.
With --wait the command ends when all jobs have ended; the status is 0 only if the batch is done.`,
		RunE: func(c *cobra.Command, given []string) error {
			b, err := readBatchFile(given[0])
			if err != nil {
				return err
			}
			if dry {
				return a.show(levelsOf(b), nil, func(o *present.Out) { showLevels(o, b) })
			}
			m, err := a.client()
			if err != nil {
				return err
			}
			told, err := m.MakeBatch(c.Context(), b)
			if err != nil {
				return err
			}
			if wait {
				return a.awaitBatch(c.Context(), m, told)
			}
			return a.show(told, []string{fmt.Sprint(told.ID)}, func(o *present.Out) {
				if told.Duplicate {
					o.Line("Batch %d already has this name, so nothing was enqueued; it is %s.", told.ID, batchState(told))
					return
				}
				o.Line("Batch %d is %s with %s.", told.ID, batchState(told), many(told.Jobs, "job"))
				o.Hint("hmule batch show %d", told.ID)
			})
		},
	}
	c.Flags().BoolVar(&dry, "dry-run", false, "check the file and show the levels of its jobs, and enqueue nothing")
	c.Flags().BoolVar(&wait, "wait", false, "wait until all jobs have ended")
	return c
}

// awaitBatch waits for the end of a batch, and tells people meanwhile how it stands.
func (a *app) awaitBatch(ctx context.Context, m *client.Client, b api.Batch) (err error) {
	aside, id := a.aside(), b.ID
	for last := int64(-1); !b.State.Over(); {
		if b.Finished != last {
			aside.Hint("Batch %d is %s: %s of %s have ended.", id, b.State, sentence.Grouped(b.Finished), many(b.Jobs, "job"))
			last = b.Finished
		}
		if b, err = m.WaitForBatch(ctx, id, 2*time.Second); err != nil {
			if ctx.Err() != nil {
				return interrupted{fmt.Sprintf("batch %d goes on without this command; see: hmule batch show %d, or stop it: hmule batch cancel %d", id, id, id)}
			}
			return err
		}
	}
	if err := a.showBatch(b); err != nil {
		return err
	}
	if b.State != api.BatchDone {
		return fmt.Errorf("batch %d is %s", b.ID, b.State)
	}
	return nil
}

// readBatchFile reads a batch of a file, and checks it.
func readBatchFile(path string) (b api.NewBatch, err error) {
	at := func(i int) string { return fmt.Sprintf("jobs[%d].", i) }
	if filepath.Ext(path) != ".ndjson" {
		err = config.Into(path, &b, func() []job.FieldError { return b.Check(job.MaxPayloadBytes, at) })
		return b, err
	}
	f, err := os.Open(path)
	if err != nil {
		return b, usageError{err}
	}
	defer f.Close()
	numbers, err := readBatchLines(f, &b)
	if err != nil {
		return b, fmt.Errorf("%s: %w", path, err)
	}
	wrong := b.Check(job.MaxPayloadBytes, func(i int) string { return fmt.Sprintf("line %d: ", numbers[i]) })
	return b, job.Wrong(path+" is not a batch", wrong)
}

// readBatchLines reads a batch and its jobs, one a line, and gives the numbers of the jobs' lines.
func readBatchLines(in io.Reader, b *api.NewBatch) (numbers []int, err error) {
	lines := bufio.NewScanner(in)
	lines.Buffer(nil, 2*job.MaxPayloadBytes)
	first := true
	for n := 1; lines.Scan(); n++ {
		if len(bytes.TrimSpace(lines.Bytes())) == 0 {
			continue
		}
		into := any(b)
		if !first {
			b.Jobs, numbers = append(b.Jobs, api.BatchJob{}), append(numbers, n)
			into = &b.Jobs[len(b.Jobs)-1]
		}
		d := json.NewDecoder(bytes.NewReader(lines.Bytes()))
		d.DisallowUnknownFields()
		if err := d.Decode(into); err != nil {
			return nil, fmt.Errorf("line %d: %w", n, err)
		}
		if first && b.Jobs != nil {
			return nil, errors.New("line 1: jobs come one a line, after that of the batch; leave jobs out there")
		}
		first = false
	}
	return numbers, lines.Err()
}

// levelsAnswer are the levels of a batch that is not enqueued.
type levelsAnswer struct {
	Jobs   int     `json:"jobs"`
	Levels []level `json:"levels"`
}

type level struct {
	Jobs  int            `json:"jobs"`
	Tasks map[string]int `json:"tasks"`
	Refs  []string       `json:"refs"`
}

func levelsOf(b api.NewBatch) levelsAnswer {
	told := levelsAnswer{Jobs: len(b.Jobs)}
	for _, places := range api.Levels(b.Jobs) {
		l := level{Jobs: len(places), Tasks: map[string]int{}, Refs: []string{}}
		for _, i := range places {
			l.Tasks[b.Jobs[i].Task]++
			if ref := b.Jobs[i].Ref; ref != "" {
				l.Refs = append(l.Refs, ref)
			}
		}
		told.Levels = append(told.Levels, l)
	}
	if b.Last != nil {
		told.Jobs++
		told.Levels = append(told.Levels, level{Jobs: 1, Tasks: map[string]int{b.Last.Task: 1}, Refs: []string{}})
	}
	return told
}

func showLevels(o *present.Out, b api.NewBatch) {
	told := levelsOf(b)
	o.Line("Nothing is wrong with the batch: %s in %s.", many(int64(told.Jobs), "job"), many(int64(len(told.Levels)), "level"))
	o.Line("")
	rows := make([][]string, len(told.Levels))
	for i, l := range told.Levels {
		refs := strings.Join(l.Refs[:min(len(l.Refs), 4)], ", ")
		if more := len(l.Refs) - 4; more > 0 {
			refs += fmt.Sprintf(" and %s more", sentence.Grouped(int64(more)))
		}
		if b.Last != nil && i == len(told.Levels)-1 {
			refs = "the last job, after all others"
		}
		rows[i] = []string{fmt.Sprint(i + 1), sentence.Grouped(int64(l.Jobs)), levelTasks(l.Tasks), refs}
	}
	o.Table([]present.Column{{Head: "level", Right: true}, {Head: "jobs", Right: true}, {Head: "tasks"}, {Head: "refs"}}, rows)
}

// levelTasks lists tasks with how many jobs each has.
func levelTasks(n map[string]int) string {
	var all []string
	for task, jobs := range n {
		if jobs > 1 {
			task = sentence.Grouped(int64(jobs)) + " " + task
		}
		all = append(all, task)
	}
	slices.Sort(all)
	return strings.Join(all, ", ")
}

func (a *app) batchCloseCommand() *cobra.Command {
	return &cobra.Command{
		Use: "close ID", Short: "Close an open batch: no more jobs are added from outside", Args: args(cobra.ExactArgs(1)), Example: "  hmule batch close 41",
		RunE: func(c *cobra.Command, given []string) error {
			id, err := batchID(given[0])
			if err != nil {
				return err
			}
			m, err := a.client()
			if err != nil {
				return err
			}
			b, err := m.CloseBatch(c.Context(), id)
			if err != nil {
				return err
			}
			return a.showBatch(b)
		},
	}
}

// batchActCommand does something to the jobs of a batch that are in the states for it.
func (a *app) batchActCommand(verb, short, action string) *cobra.Command {
	var ask asking
	var note string
	c := &cobra.Command{
		Use: verb + " ID", Short: short, Args: args(cobra.ExactArgs(1)), Example: "  hmule batch " + verb + " 41 --dry-run\n  hmule batch " + verb + " 41 --yes",
		RunE: func(c *cobra.Command, given []string) error {
			id, err := batchID(given[0])
			if err != nil {
				return err
			}
			return a.operate(c, api.ActRequest{Action: action, Filter: &api.Selection{Batch: id}, Note: note}, ask)
		},
	}
	ask.flags(c)
	c.Flags().StringVar(&note, "note", "", "why; kept with the action")
	return c
}
