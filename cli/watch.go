package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"humblemule/cli/present"
	"humblemule/core/job"
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

func listQueues(o *present.Out, stats job.Stats) {
	for _, said := range stats.Says {
		if said.Wrong {
			o.Text(0, said.Text)
		}
	}
	if len(stats.Queues) == 0 {
		o.Line("There is no queue yet; a queue exists from its first job.")
		return
	}
	columns := []present.Column{{Head: "queue"}}
	for _, s := range job.States() {
		columns = append(columns, present.Column{Head: s.String(), Right: true})
	}
	columns = append(columns, present.Column{Head: "oldest", Right: true}, present.Column{Head: "workers", Right: true})
	var rows [][]string
	for _, q := range stats.Queues {
		row := []string{q.Name}
		for _, s := range job.States() {
			row = append(row, present.Count(q.Counts[s]))
		}
		oldest := ""
		if q.OldestReadyMS > 0 {
			oldest = job.Roughly(time.Duration(q.OldestReadyMS) * time.Millisecond)
		}
		rows = append(rows, append(row, oldest, fmt.Sprint(q.Workers)))
	}
	o.Table(columns, rows)
	o.Hint("oldest: how long the longest ready job waits.   hmule jobs --queue %s", stats.Queues[0].Name)
}

func (a *app) workersCommand() *cobra.Command {
	return &cobra.Command{
		Use: "workers", Short: "Show the worker processes: queues, tasks, slots and when they were seen", Args: args(cobra.NoArgs), Example: "  hmule workers",
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

func listWorkers(o *present.Out, all []job.Worker) {
	if len(all) == 0 {
		o.Line("No worker was seen within the last ten minutes.")
		o.Hint("A pool in Go, or any program that calls POST /v1/leases, is a worker. hmule demo brings one along.")
		return
	}
	rows := make([][]string, len(all))
	for i, w := range all {
		running := fmt.Sprint(w.Running)
		if w.Slots > 0 {
			running = fmt.Sprintf("%d of %d", w.Running, w.Slots)
		}
		name := w.Name
		if name == "" {
			name = w.ID
		}
		rows[i] = []string{name, w.Host, present.Number(w.PID), running, o.Age(w.SeenAt), strings.Join(w.Queues, " "), strings.Join(w.Tasks, " ")}
	}
	o.Table([]present.Column{{Head: "worker"}, {Head: "host"}, {Head: "pid", Right: true}, {Head: "running", Right: true}, {Head: "seen"}, {Head: "queues"}, {Head: "tasks"}}, rows)
}

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
