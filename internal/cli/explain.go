package cli

import (
	"fmt"
	"math"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/internal/cli/present"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

func (a *app) explainCommand() *cobra.Command {
	return noun("explain", "Explain a retry, a cron expression, or when a queue is clear", a.explainRetryCommand(), a.explainCronCommand(), a.explainDrainCommand())
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

func (a *app) explainDrainCommand() *cobra.Command {
	var q api.ForecastQuery
	var by string
	c := &cobra.Command{
		Use: "drain QUEUE", Short: "Tell when no job of a queue waits any more, and what keeps it from going faster", Args: args(cobra.ExactArgs(1)),
		Long: `Reckons when a queue is clear: by how fast jobs came over the last 30 minutes, how long runs take, the slots that workers
have for it, its limits, and what is planned. The range holds in nine cases of ten, if things go on as they did.`,
		Example: "  hmule explain drain berths\n  hmule explain drain berths --slots 12 --by 08:00",
		RunE: func(c *cobra.Command, given []string) (err error) {
			if q.By, err = timeOf("by", by, time.Now(), ahead); err != nil {
				return err
			}
			m, err := a.client()
			if err != nil {
				return err
			}
			q.Queue = given[0]
			told, err := m.Forecast(c.Context(), q)
			if err != nil {
				return err
			}
			return a.show(told, nil, func(o *present.Out) { showForecast(o, &told) })
		},
	}
	c.Flags().IntVar(&q.Slots, "slots", 0, "also tell when it would be clear with so many slots")
	c.Flags().StringVar(&by, "by", "", "also tell how many slots it takes to be clear by then: 08:00, 90m, 2026-11-30T06:00:00Z")
	return c
}

func showForecast(o *present.Out, f *api.Forecast) {
	for _, said := range f.Summary {
		o.Text(0, present.Local(said))
	}
	if f.Clear == nil {
		return
	}
	var facts [][2]string
	if f.Minutes > 0 {
		facts = append(facts, [2]string{"came", fmt.Sprintf("%.1f per minute, ± %.1f", f.In.PerMinute, f.In.Deviation)}, [2]string{"finished", fmt.Sprintf("%.1f per minute, ± %.1f", f.Out.PerMinute, f.Out.Deviation)})
	}
	if f.CapacityPerMinute > 0 {
		facts = append(facts, [2]string{"can finish", fmt.Sprintf("%.1f per minute", f.CapacityPerMinute)})
	}
	if f.Utilisation > 0 {
		facts = append(facts, [2]string{"used", fmt.Sprintf("%.0f %% of that", 100*f.Utilisation)})
	}
	if f.Run != nil {
		facts = append(facts, [2]string{"run", fmt.Sprintf("p50 %s, p95 %s, of %s", spanOf(f.Run.P50MS), spanOf(f.Run.P95MS), sentence.Count(f.Run.Count, "run", "runs"))})
	}
	if f.WaitMS != nil && f.Minutes > 0 {
		facts = append(facts, [2]string{"wait", spanOf(*f.WaitMS) + " in the long run"})
	}
	o.Line("")
	o.Facts(facts...)
}
