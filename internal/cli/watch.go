package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/cli/present"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

func (a *app) queuesCommand() *cobra.Command {
	return &cobra.Command{
		Use: "queues", Short: "Show the queues: how many jobs in each state, and who takes them", Args: args(cobra.NoArgs), Example: "  hmule queues",
		RunE: func(c *cobra.Command, _ []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			stats, err := m.Stats(c.Context(), "")
			if err != nil {
				return err
			}
			return a.show(stats, func(o *present.Out) { listQueues(o, stats) })
		},
	}
}

func listQueues(o *present.Out, stats api.Stats) {
	for _, said := range stats.Says {
		if said.Wrong {
			o.Text(0, present.Local(said.Text))
		}
	}
	if len(stats.Queues) == 0 {
		o.Line("There is no queue yet; a queue exists from its first job.")
		return
	}
	columns := []present.Column{{Head: "queue"}}
	// What was skipped or cancelled asks for nobody, and a line has only so much room.
	states := slices.DeleteFunc(job.States(), func(s job.State) bool { return stats.Counts[s] == 0 || s == job.Skipped || s == job.Cancelled })
	for _, s := range states {
		columns = append(columns, present.Column{Head: s.String(), Right: true})
	}
	columns = append(columns, present.Column{Head: "in · out/min", Right: true}, present.Column{Head: "oldest", Right: true}, present.Column{Head: "workers", Right: true})
	var rows [][]string
	for _, q := range stats.Queues {
		row := []string{q.Name}
		if q.Paused {
			row[0] += present.Quiet(" paused")
		}
		for _, s := range states {
			row = append(row, present.Count(q.Counts[s]))
		}
		oldest := ""
		if q.OldestReadyMS > 0 {
			oldest = sentence.Roughly(time.Duration(q.OldestReadyMS) * time.Millisecond)
		}
		rows = append(rows, append(row, fmt.Sprintf("%.1f · %.1f", q.InPerMinute, q.OutPerMinute), oldest, fmt.Sprint(q.Workers)))
	}
	o.Table(columns, rows)
	over := "the last minute"
	if since := (time.Duration(stats.WindowMS) * time.Millisecond).Round(time.Second); since < 59*time.Second {
		over = fmt.Sprintf("the %.0f s since the start", since.Seconds())
	}
	o.Hint("in · out/min: over %s. oldest: the longest wait of a ready job.", over)
	o.Hint("hmule jobs --queue %s", stats.Queues[0].Name)
}

// setQueues does something to every queue that the arguments name.
func (a *app) setQueues(c *cobra.Command, names []string, set func(m *client.Client, name string) (api.Queue, error), said string) error {
	m, err := a.client()
	if err != nil {
		return err
	}
	queues := []api.Queue{}
	var refused []error
	for _, name := range names {
		q, err := set(m, name)
		if err != nil {
			refused = append(refused, err)
			continue
		}
		queues = append(queues, q)
	}
	if err := a.show(map[string]any{"queues": queues}, func(o *present.Out) {
		for _, q := range queues {
			o.Line(said, q.Name, sentence.Grouped(q.Counts[job.Ready]), sentence.Grouped(q.Counts[job.Running]))
		}
	}); err != nil {
		return err
	}
	return errors.Join(refused...)
}

func (a *app) pauseCommand() *cobra.Command {
	return &cobra.Command{
		Use: "pause QUEUE...", Short: "Start nothing more of a queue; what runs goes on", Args: args(cobra.MinimumNArgs(1)), Example: "  hmule pause berths",
		RunE: func(c *cobra.Command, names []string) error {
			return a.setQueues(c, names, func(m *client.Client, name string) (api.Queue, error) { return m.PauseQueue(c.Context(), name) },
				"Queue %s is paused. Ready there: %s; running on: %s.")
		},
	}
}

func (a *app) resumeCommand() *cobra.Command {
	return &cobra.Command{
		Use: "resume QUEUE...", Short: "Start jobs of a queue again", Args: args(cobra.MinimumNArgs(1)), Example: "  hmule resume berths",
		RunE: func(c *cobra.Command, names []string) error {
			return a.setQueues(c, names, func(m *client.Client, name string) (api.Queue, error) { return m.ResumeQueue(c.Context(), name) },
				"Queue %s goes on. Ready there: %s; running: %s.")
		},
	}
}

func (a *app) tasksCommand() *cobra.Command {
	return &cobra.Command{
		Use: "tasks", Short: "Show the tasks: how many jobs, how long their runs usually take, who does them", Args: args(cobra.NoArgs), Example: "  hmule tasks",
		RunE: func(c *cobra.Command, _ []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			all, err := m.Tasks(c.Context())
			if err != nil {
				return err
			}
			return a.show(map[string]any{"tasks": all}, func(o *present.Out) { listTasks(o, all) })
		},
	}
}

func listTasks(o *present.Out, all []api.Task) {
	if len(all) == 0 {
		o.Line("There is no task yet; a task exists from its first job.")
		return
	}
	rows := make([][]string, len(all))
	for i, t := range all {
		rows[i] = []string{t.Name, present.Count(t.Counts[job.Ready]), present.Count(t.Counts[job.Running]), present.Count(t.Counts[job.Backoff]), present.Count(t.Counts[job.Dead]), "", "", "", fmt.Sprint(t.Workers)}
		if t.Run != nil {
			rows[i][5], rows[i][6], rows[i][7] = spanOf(t.Run.P50MS), spanOf(t.Run.P95MS), spanOf(t.Run.MaxMS)
		}
	}
	right := func(head string) present.Column { return present.Column{Head: head, Right: true} }
	o.Table([]present.Column{{Head: "task"}, right("ready"), right("running"), right("backoff"), right("dead"), right("half within"), right("19 of 20"), right("longest"), right("workers")}, rows)
	o.Hint("half within, 19 of 20, longest: what recent runs that ended well took; empty below 5 of them.")
}

func spanOf(ms int64) string { return sentence.Roughly(time.Duration(ms) * time.Millisecond) }

// await waits until a job is finished, telling people that it does.
func (a *app) await(ctx context.Context, id int64) (job.Job, error) {
	m, err := a.client()
	if err != nil {
		return job.Job{}, err
	}
	for {
		j, err := m.Await(ctx, id, 25*time.Second)
		if err != nil || j.State.Finished() {
			return j, err
		}
		if a.output == "table" {
			present.New(a.err).Hint("Job %d is %s. %s", id, j.State, present.Local(j.WaitingBecause))
		}
	}
}
