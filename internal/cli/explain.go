package cli

import (
	"fmt"
	"math"
	"strings"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/internal/cli/present"
	"humblemule.example/job"
)

func (a *app) explainCommand() *cobra.Command {
	return noun("explain", "Explain a retry or a cron expression before it is used", a.explainRetryCommand(), a.explainCronCommand())
}

func (a *app) explainRetryCommand() *cobra.Command {
	var retry, task string
	var maxAttempts int
	var q api.RetryQuery
	c := &cobra.Command{
		Use: "retry", Short: "Show when each attempt of a retry would come, as a table and a drawing", Args: args(cobra.NoArgs),
		Example: "  hmule explain retry\n  hmule explain retry --retry '{\"curve\":\"linear\",\"first\":\"30s\",\"step\":\"1m\"}' --max-attempts 6\n  hmule explain retry --task dues.charge",
		RunE: func(c *cobra.Command, _ []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			if task != "" {
				t, err := m.Task(c.Context(), task)
				if err != nil {
					return err
				}
				if t.Defaults != nil {
					q.Retry, q.MaxAttempts = t.Defaults.Retry, t.Defaults.MaxAttempts
				}
			}
			if retry != "" {
				q.Retry = new(job.Retry)
				if err := readJSON("retry", retry, q.Retry); err != nil {
					return err
				}
			}
			if c.Flags().Changed("max-attempts") {
				q.MaxAttempts = &maxAttempts
			}
			told, err := m.ExplainRetry(c.Context(), q)
			if err != nil {
				return err
			}
			return a.show(told, nil, func(o *present.Out) { showRetry(o, told) })
		},
	}
	f := c.Flags()
	f.StringVar(&retry, "retry", "", "a retry as JSON, as in a spec (default: the built-in one)")
	f.IntVar(&maxAttempts, "max-attempts", job.DefaultMaxAttempts, "attempts before the job is a dead letter; 0 for no limit")
	f.StringVar(&task, "task", "", "begin with the defaults of this task")
	f.IntVar(&q.Limit, "limit", 30, "how many attempts to show, at most 1000")
	return c
}

// drawn is how many columns the drawing of a preview has.
const drawn = 40

// showRetry draws the attempts on a logarithmic axis of time, jitter as the width
// of each mark.
func showRetry(o *present.Out, p api.RetryExplanation) {
	o.Text(0, p.Summary)
	for _, w := range p.Warnings {
		o.Line("Note: %s", w.Message)
	}
	latest := float64(max(p.Attempts[len(p.Attempts)-1].LatestMS, 1))
	first := 1.0
	for _, t := range p.Attempts {
		if t.EarliestMS > 0 {
			first = float64(t.EarliestMS)
			break
		}
	}
	at := func(ms int64) int {
		if ms <= 0 || latest <= first {
			return 0
		}
		return int(math.Round(math.Log(max(float64(ms), first)/first) / math.Log(latest/first) * (drawn - 1)))
	}
	rows := make([][]string, len(p.Attempts))
	for i, t := range p.Attempts {
		line := []rune(strings.Repeat(" ", drawn))
		for x := at(t.EarliestMS); x <= at(t.LatestMS); x++ {
			line[x] = '─'
		}
		line[at(t.ExpectedMS)] = '●'
		if i == 0 {
			line = []rune("●")
		}
		rows[i] = []string{fmt.Sprint(t.Attempt), spanOf(t.EarliestMS), spanOf(t.ExpectedMS), spanOf(t.LatestMS), strings.TrimRight(string(line), " ")}
	}
	rows[0][1], rows[0][2], rows[0][3] = "", "at once", ""
	right := func(head string) present.Column { return present.Column{Head: head, Right: true} }
	o.Table([]present.Column{right("attempt"), right("earliest"), right("expected"), right("latest"), {Head: "on a logarithmic axis, ─ by jitter"}}, rows)
	o.Hint("Times count from the start of the first attempt, as if attempts took no time.")
}

func (a *app) explainCronCommand() *cobra.Command {
	var q api.CronQuery
	c := &cobra.Command{
		Use: "cron EXPR", Short: "Explain in words what a cron expression means, and when it comes next", Args: args(cobra.ExactArgs(1)), Example: "  hmule explain cron '30 1 * * mon-fri' --zone Europe/Lisbon",
		RunE: func(c *cobra.Command, given []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			q.Expr = given[0]
			told, err := m.ExplainCron(c.Context(), q)
			if err != nil {
				return err
			}
			return a.show(told, nil, func(o *present.Out) {
				o.Line("%s, %s", present.Strong(told.Summary), told.Zone)
				o.Line("%s", present.Quiet("read as "+told.Form))
				showTimes(o, told.Next, told.Notes)
			})
		},
	}
	c.Flags().StringVar(&q.Zone, "zone", "UTC", "time zone, such as Europe/Lisbon")
	c.Flags().IntVar(&q.Count, "count", 5, "how many times to show, at most 100")
	return c
}
