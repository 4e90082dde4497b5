package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/cli/present"
	"humblemule.example/internal/nearest"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

func (a *app) workersCommand() *cobra.Command {
	return &cobra.Command{
		Use: "workers", Short: "Show the worker processes: what each slot does, queues, and when they were seen", Args: args(cobra.NoArgs), Example: "  hmule workers",
		RunE: func(c *cobra.Command, _ []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			all, err := m.Workers(c.Context())
			if err != nil {
				return err
			}
			return a.show(map[string]any{"workers": all}, func(o *present.Out) { listWorkers(o, all) })
		},
	}
}

func listWorkers(o *present.Out, all []api.Worker) {
	if len(all) == 0 {
		o.Line("No worker was seen within the last ten minutes.")
		o.Hint("hmule pool --run greet='cat'   starts one that runs a shell command; hmule demo brings one along.")
		return
	}
	rows := make([][]string, len(all))
	for i, w := range all {
		running := fmt.Sprint(w.Running)
		if w.Slots > 0 {
			running = fmt.Sprintf("%d of %d", w.Running, w.Slots)
			if w.MaxSlots > w.Slots {
				running += present.Quiet(fmt.Sprintf(" to %d", w.MaxSlots))
			}
		}
		rows[i] = []string{nameOf(w), w.Says, running, cells(o, w), o.Age(w.SeenAt), strings.Join(w.Queues, " ")}
	}
	o.Table([]present.Column{{Head: "worker"}, {Head: "does"}, {Head: "running"}, {Head: "slots"}, {Head: "seen"}, {Head: "queues"}}, rows)
	o.Hint("A block fills as its job nears its task's usual run time; ! is longer than 19 of 20 runs took.")
	o.Hint("hmule worker %s", nameOf(all[0]))
}

func nameOf(w api.Worker) string {
	if w.Name == "" {
		return w.ID
	}
	return w.Name
}

// doing says what a worker does, in a word.
// cells draws a block for each slot, filled as far as its job's run time is of
// what is usual for its task.
func cells(o *present.Out, w api.Worker) string {
	const most = 24
	var b strings.Builder
	for i := range min(max(w.Slots, len(w.Jobs)), most) {
		if i < len(w.Jobs) {
			b.WriteString(cell(w.Jobs[i], o.Now))
		} else {
			b.WriteString("·")
		}
	}
	if w.Slots > most {
		b.WriteString("…")
	}
	return b.String()
}

func cell(s api.Slot, now time.Time) string {
	levels := []rune("▁▂▃▄▅▆▇█")
	took := job.At(now) - s.Since
	switch {
	case s.UsualMS == 0:
		return "▪"
	case int64(took) > max(s.LongMS, s.UsualMS):
		return "!"
	}
	return string(levels[min(int(took)*len(levels)/max(int(s.UsualMS), 1), len(levels)-1)])
}

// findWorker finds a worker by its id or its name.
func findWorker(c *cobra.Command, m *client.Client, text string) (api.Worker, error) {
	all, err := m.Workers(c.Context())
	if err != nil {
		return api.Worker{}, err
	}
	var found []api.Worker
	var names, ids []string
	for _, w := range all {
		if w.ID == text {
			return w, nil
		}
		if w.Name == text {
			found, ids = append(found, w), append(ids, w.ID)
		}
		names = append(names, nameOf(w))
	}
	if living := slices.DeleteFunc(slices.Clone(found), func(w api.Worker) bool { return w.Silent }); len(living) == 1 {
		return living[0], nil // an earlier process of the same name is gone
	}
	switch len(found) {
	case 1:
		return found[0], nil
	case 0:
		return api.Worker{}, fmt.Errorf("no worker %q was seen within the last ten minutes%s", text, sentence.Perhaps(nearest.To(text, names)))
	}
	return api.Worker{}, fmt.Errorf("%d workers are named %s; give the id of one: %s", len(found), text, strings.Join(ids, ", "))
}

func (a *app) workerCommand() *cobra.Command {
	return &cobra.Command{
		Use: "worker WORKER", Short: "Show one worker, by its name or id, and what each of its slots does", Args: args(cobra.ExactArgs(1)), Example: "  hmule worker harbour-office",
		RunE: func(c *cobra.Command, given []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			w, err := findWorker(c, m, given[0])
			if err != nil {
				return err
			}
			return a.show(w, func(o *present.Out) { showWorker(o, w) })
		},
	}
}

func showWorker(o *present.Out, w api.Worker) {
	o.Line("%s  %s", present.Strong(nameOf(w)), w.Says)
	o.Line("")
	slots := present.Number(w.Slots)
	if w.MaxSlots > 0 {
		slots = fmt.Sprintf("%d, by itself between %d and %d", w.Slots, w.MinSlots, w.MaxSlots)
	}
	queues := slices.Clone(w.Queues)
	for i, q := range queues {
		if w.Weights != nil {
			queues[i] = fmt.Sprintf("%s×%d", q, max(w.Weights[q], 1))
		}
	}
	o.Facts([2]string{"id", w.ID}, [2]string{"host", w.Host}, [2]string{"pid", present.Number(w.PID)}, [2]string{"version", w.Version}, [2]string{"slots", slots},
		[2]string{"queues", strings.Join(queues, "  ")}, [2]string{"tasks", strings.Join(w.Tasks, "  ")}, [2]string{"ahead", present.Number(w.Ahead)},
		[2]string{"started", o.Age(w.StartedAt)}, [2]string{"seen", o.Age(w.SeenAt)})
	if len(w.Jobs) > 0 {
		o.Line("")
		rows := make([][]string, len(w.Jobs))
		for i, s := range w.Jobs {
			usual, progress := "", ""
			if s.UsualMS > 0 {
				usual = spanOf(s.UsualMS)
			}
			if s.Progress != nil {
				progress = fmt.Sprintf("%.0f %%  %s", s.Progress.Percent, s.Progress.Note)
			}
			if s.CancelAskedAt != 0 {
				progress = "asked to end  " + progress
			}
			rows[i] = []string{fmt.Sprint(s.Job), s.Task, cell(s, o.Now), spanOf(int64(job.At(o.Now) - s.Since)), usual, progress}
		}
		o.Table([]present.Column{{Head: "job", Right: true}, {Head: "task"}, {Head: ""}, {Head: "runs for", Right: true}, {Head: "usually", Right: true}, {Head: "progress"}}, rows)
	}
	if len(w.Sizes) > 0 {
		o.Line("")
		rows := make([][]string, len(w.Sizes))
		for i, s := range w.Sizes {
			rows[i] = []string{o.Age(s.At), fmt.Sprintf("%d → %d", s.From, s.To), s.Why}
		}
		o.Table([]present.Column{{Head: "slots changed"}, {Head: ""}, {Head: "because"}}, rows)
	}
	o.Hint("hmule ask %s drain", nameOf(w))
}

func (a *app) askCommand() *cobra.Command {
	return &cobra.Command{
		Use: "ask WORKER drain|leave|run", Short: "Ask a worker to take no more jobs, to end when it has finished, or to run again", Args: args(cobra.ExactArgs(2)),
		Example: "  hmule ask harbour-office drain\n  hmule ask harbour-office run",
		Long: `Ask a worker to take no more jobs (drain), to end when it has finished those it has (leave),
or to take jobs again (run). What a worker was asked stands through restarts of the service.`,
		RunE: func(c *cobra.Command, given []string) error {
			want := api.Want(given[1])
			if want != api.WantRun && want != api.WantDrain && want != api.WantLeave {
				return usageError{fmt.Errorf("%q cannot be asked of a worker; it is drain, leave or run", given[1])}
			}
			m, err := a.client()
			if err != nil {
				return err
			}
			w, err := findWorker(c, m, given[0])
			if err == nil {
				w, err = m.AskWorker(c.Context(), w.ID, want)
			}
			if err != nil {
				return err
			}
			return a.show(w, func(o *present.Out) { o.Line("%s", asked(w)) })
		},
	}
}

// asked says what follows from what a worker was asked.
func asked(w api.Worker) string {
	runs := fmt.Sprintf("%d jobs run there", w.Running)
	if w.Running == 1 {
		runs = "1 job runs there"
	}
	switch w.Wanted {
	case api.WantDrain:
		return fmt.Sprintf("%s takes no more jobs; %s and will be finished.", nameOf(w), runs)
	case api.WantLeave:
		return fmt.Sprintf("%s takes no more jobs and ends; %s and will be finished first.", nameOf(w), runs)
	}
	return fmt.Sprintf("%s takes jobs again; %s.", nameOf(w), runs)
}

func (a *app) logCommand() *cobra.Command {
	var follow bool
	c := &cobra.Command{
		Use: "log ID", Short: "Show what the handlers of a job wrote, attempt by attempt", Args: args(cobra.ExactArgs(1)), Example: "  hmule log 42\n  hmule log 42 --follow",
		RunE: func(c *cobra.Command, given []string) error { return a.log(c, given[0], follow) },
	}
	c.Flags().BoolVar(&follow, "follow", false, "go on until the job is finished")
	return c
}

func (a *app) log(c *cobra.Command, text string, follow bool) error {
	id, err := jobID(text)
	if err != nil {
		return err
	}
	m, err := a.client()
	if err != nil {
		return err
	}
	o := present.New(a.out)
	var last api.LogLine
	var all []api.LogLine
	for finished := !follow; ; {
		page, err := m.Log(c.Context(), id, last)
		if err != nil {
			return err
		}
		all = append(all, page.Lines...)
		if a.output == "table" {
			for _, l := range page.Lines {
				tellLine(o, last, l)
				last = l
			}
		}
		if len(page.Lines) > 0 {
			last = page.Lines[len(page.Lines)-1]
		}
		if page.More {
			continue
		}
		if finished {
			break
		}
		j, err := m.Await(c.Context(), id, time.Second)
		if err != nil {
			return err
		}
		finished = j.State.Finished()
	}
	if a.output == "json" {
		return a.show(api.Log{Lines: append([]api.LogLine{}, all...)}, nil)
	}
	if len(all) == 0 {
		o.Line("The handlers of job %d have written nothing.", id)
	}
	return nil
}

// tellLine writes a line of a log, under the head of its attempt, and says where
// lines are no longer kept.
func tellLine(o *present.Out, before, l api.LogLine) {
	if l.Attempt != before.Attempt {
		o.Line("%s", present.Strong(fmt.Sprintf("attempt %d", l.Attempt)))
		before.N = 0
	}
	if gap := l.N - before.N - 1; gap > 0 {
		o.Hint("%s lines are no longer kept", sentence.Grouped(int64(gap)))
	}
	o.Line("%s  %s", present.Quiet(l.At.Go().Local().Format("15:04:05.000")), l.Text)
}
