package cli

import (
	"context"
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

func (a *app) workerCommand() *cobra.Command {
	return noun("worker", "List and show worker processes; drain them, end them, resume them",
		a.workerListCommand(), a.workerShowCommand(),
		a.workerVerb("drain", "Ask workers to take no more jobs and finish the ones they have; they stay", (*client.Client).DrainWorker),
		a.workerVerb("leave", "Ask workers to take no more jobs, finish the ones they have, and end", (*client.Client).LeaveWorker),
		a.workerVerb("resume", "Let workers take jobs again", (*client.Client).ResumeWorker))
}

func (a *app) workerListCommand() *cobra.Command {
	return listCommand(a, "workers", "List the worker processes: what each slot does, queues, and when they were seen",
		collected((*client.Client).Workers), func(w *api.Worker) string { return w.ID }, listWorkers)
}

func listWorkers(o *present.Out, all []api.Worker) {
	if len(all) == 0 {
		o.Line("No worker was seen within the last ten minutes.")
		o.Hint("hmule pool --run log.pack='./pack.sh'   starts one that runs a shell command for each job")
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
		rows[i] = []string{nameOf(w), w.Summary, running, cells(o, w), o.Age(w.SeenAt), strings.Join(w.Queues, " ")}
	}
	o.Table([]present.Column{{Head: "worker"}, {Head: "status"}, {Head: "running"}, {Head: "slots"}, {Head: "seen"}, {Head: "queues"}}, rows)
	o.Hint("A block fills up to the task's usual run time; ! marks a job that takes longer than 19 of 20 runs.")
	o.Hint("hmule worker show %s", nameOf(all[0]))
}

func nameOf(w api.Worker) string {
	if w.Name == "" {
		return w.ID
	}
	return w.Name
}

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
func findWorker(ctx context.Context, m *client.Client, text string) (api.Worker, error) {
	all, err := client.Collect(m.Workers(ctx))
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

func (a *app) workerShowCommand() *cobra.Command {
	return &cobra.Command{
		Use: "show WORKER", Short: "Show one worker, by its name or id, and what each of its slots does", Args: args(cobra.ExactArgs(1)), Example: "  hmule worker show harbour-office",
		RunE: func(c *cobra.Command, given []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			w, err := findWorker(c.Context(), m, given[0])
			if err != nil {
				return err
			}
			return a.show(w, []string{w.ID}, func(o *present.Out) { showWorker(o, w) })
		},
	}
}

func showWorker(o *present.Out, w api.Worker) {
	o.Line("%s  %s", present.Strong(nameOf(w)), w.Summary)
	o.Line("")
	slots := present.Number(w.Slots)
	if w.MaxSlots > 0 {
		slots = fmt.Sprintf("%d, between %d and %d by load", w.Slots, w.MinSlots, w.MaxSlots)
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
		o.Table([]present.Column{{Head: "job", Right: true}, {Head: "task"}, {Head: ""}, {Head: "running for", Right: true}, {Head: "usual", Right: true}, {Head: "progress"}}, rows)
	}
	if len(w.Sizes) > 0 {
		o.Line("")
		rows := make([][]string, len(w.Sizes))
		for i, s := range w.Sizes {
			rows[i] = []string{o.Age(s.At), fmt.Sprintf("%d → %d", s.From, s.To), s.Why}
		}
		o.Table([]present.Column{{Head: "slots changed"}, {Head: ""}, {Head: "because"}}, rows)
	}
	o.Hint("hmule worker drain %s", nameOf(w))
}

// workerVerb makes a command that asks something of workers. It stands through restarts of the
// service.
func (a *app) workerVerb(verb, short string, ask func(*client.Client, context.Context, string) (api.Worker, error)) *cobra.Command {
	var yes bool
	c := &cobra.Command{
		Use: verb + " WORKER...", Short: short, Args: args(cobra.MinimumNArgs(1)), Example: "  hmule worker " + verb + " harbour-office",
		RunE: func(c *cobra.Command, given []string) error {
			if verb == "leave" && len(given) > 1 {
				if err := a.confirm(c, yes, "End %s?", many(int64(len(given)), "worker")); err != nil {
					return err
				}
			}
			m, err := a.client()
			if err != nil {
				return err
			}
			return eachOf(a, given, func(name string) (api.Worker, error) {
				w, err := findWorker(c.Context(), m, name)
				if err != nil {
					return w, err
				}
				return ask(m, c.Context(), w.ID)
			}, "workers", func(w *api.Worker) string { return w.ID }, asked)
		},
	}
	if verb == "leave" {
		c.Flags().BoolVar(&yes, "yes", false, "do not ask; for scripts")
	}
	return c
}

// asked says what follows from what a worker was asked.
func asked(w api.Worker) string {
	running := sentence.Count(int64(w.Running), "job is", "jobs are") + " running there"
	switch w.Wanted {
	case api.WantDrain:
		return fmt.Sprintf("%s takes no more jobs; %s and will be finished.", nameOf(w), running)
	case api.WantLeave:
		return fmt.Sprintf("%s takes no more jobs and ends; %s and will be finished first.", nameOf(w), running)
	}
	return fmt.Sprintf("%s takes jobs again; %s.", nameOf(w), running)
}
