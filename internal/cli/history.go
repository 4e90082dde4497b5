package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/internal/cli/present"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

func (a *app) historyCommand() *cobra.Command {
	var q api.HistoryQuery
	var since, until, step string
	c := &cobra.Command{
		Use: "history", Short: "Show how many jobs came, started, failed and finished over time", Args: args(cobra.NoArgs),
		Long: `Shows what moved over the last hour, step by step, or over another span. Minutes are kept for 2 days, hours for 60 days,
days for 2 years; hours and days are those of UTC. With --by, each queue, task, version of worker programs or host is a
line.`,
		Example: "  hmule history\n  hmule history --since 6h --step 1h --queue berths --times\n  hmule history --since 24h --by task",
		RunE: func(c *cobra.Command, _ []string) (err error) {
			now := time.Now()
			if q.From, err = timeOf("since", since, now, before); err != nil {
				return err
			}
			if q.To, err = timeOf("until", until, now, before); err != nil {
				return err
			}
			if step != "" {
				if q.Step, err = job.ParseDuration(step); err != nil {
					return usageError{fmt.Errorf("--step: %w", err)}
				}
			}
			m, err := a.client()
			if err != nil {
				return err
			}
			told, err := m.History(c.Context(), q)
			if err != nil {
				return err
			}
			return a.show(told, nil, func(o *present.Out) { showHistory(o, told, q) })
		},
	}
	f := c.Flags()
	f.StringVar(&since, "since", "1h", "from when on: 6h, 09:00, yesterday, 2026-11-23")
	f.StringVar(&until, "until", "", "until when (default: now)")
	f.StringVar(&step, "step", "", "how long each step is, such as 5m or 1h (default: what suits the span)")
	f.StringVar(&q.By, "by", "", "a line for each queue, task, version, host or followed label (follow)")
	f.StringVar(&q.Queue, "queue", "", "only this queue")
	f.StringVar(&q.Task, "task", "", "only this task")
	f.StringVar(&q.Follow, "follow", "", "only what a followed label has, by its name")
	f.BoolVar(&q.Times, "times", false, "also how long jobs waited and ran")
	return c
}

// flowColumns are the columns of what moved; finished stands for all ends but done and dead.
func flowColumns(times bool) (all []present.Column) {
	heads := []string{"came", "started", "done", "failed", "dead", "other ends"}
	if times {
		heads = append(heads, "wait p50", "p95", "run p50", "p95")
	}
	for _, head := range heads {
		all = append(all, present.Column{Head: head, Right: true})
	}
	return all
}

func showHistory(o *present.Out, h api.History, q api.HistoryQuery) {
	if h.Since == 0 {
		o.Line("No job has been enqueued yet.")
		return
	}
	step := time.Duration(h.StepMS) * time.Millisecond
	o.Line("%s to %s, in steps of %s", present.Time(h.From), present.Time(h.To), job.Duration(step))
	o.Line("")
	if h.By != "" {
		showSeries(o, h, q.Times)
	} else {
		showTimeline(o, h, step, q.Times)
	}
	o.Hint("came: new and requeued jobs. failed: attempts. other ends: skipped and cancelled.")
	if n := h.Total.Sum.Unmeasured; n > 0 {
		o.Hint("How long things took was not kept of %s: there were too many queues or tasks, and it is left out of those with the fewest jobs.", sentence.Count(n, "start", "starts"))
	}
}

// showSeries shows a line for each series.
func showSeries(o *present.Out, h api.History, times bool) {
	columns := append([]present.Column{{Head: h.By}}, flowColumns(times)...)
	row := func(name string, s api.Series) []string { return append([]string{name}, flowCells(s.Sum, times)...) }
	var rows [][]string
	for _, s := range h.Series {
		name := s.Name
		if s.Rest {
			name = present.Quiet("all others")
		}
		rows = append(rows, row(name, s))
	}
	rows = append(rows, row(present.Strong("total"), h.Total))
	if !times { // for which there is room
		columns = append(columns, present.Column{Head: "done"})
		for i, s := range append(h.Series, h.Total) {
			rows[i] = append(rows[i], spark(s.Points.Done))
		}
	}
	o.Table(columns, rows)
}

// showTimeline shows a line for each step, and the marks where they belong.
func showTimeline(o *present.Out, h api.History, step time.Duration, times bool) {
	p := h.Total.Points
	columns := append([]present.Column{{Head: "from"}}, flowColumns(times)...)
	columns = append(columns, present.Column{Head: "done"})
	most := slices.Max(append(slices.Clone(p.Done), 1))
	var rows [][]string
	marks := h.Marks
	dark := 0
	for i, came := range p.Enqueued {
		at := h.From.Add(time.Duration(i) * step)
		for len(marks) > 0 && marks[0].At < at.Add(step) {
			rows = append(rows, markRow(marks[0], len(columns)))
			marks = marks[1:]
		}
		if came < 0 {
			dark++
			continue
		}
		flow := api.Flow{Enqueued: came, Requeued: p.Requeued[i], Started: p.Started[i], Done: p.Done[i], Failed: p.Failed[i], Dead: p.Dead[i], Skipped: p.Skipped[i], Cancelled: p.Cancelled[i]}
		if times {
			flow.Wait, flow.Run = spansAt(p.WaitP50MS, p.WaitP95MS, i), spansAt(p.RunP50MS, p.RunP95MS, i)
		}
		const bar = 16
		row := append([]string{stepTime(at, step)}, flowCells(flow, times)...)
		rows = append(rows, append(row, strings.Repeat("▪", int((p.Done[i]*bar+most-1)/most))))
	}
	rows = append(rows, append(append([]string{present.Strong("total")}, flowCells(h.Total.Sum, times)...), ""))
	o.Table(columns, rows)
	if dark > 0 {
		o.Hint("%s left out, in which nothing was recorded.", sentence.Count(int64(dark), "step is", "steps are"))
	}
}

func spansAt(p50, p95 api.Points, i int) *api.Spans {
	if i >= len(p50) || p50[i] < 0 {
		return nil
	}
	return &api.Spans{P50MS: p50[i], P95MS: p95[i]}
}

// markRow is a line of its own for a mark.
func markRow(m api.Mark, columns int) []string {
	row := make([]string, columns)
	row[0] = present.Quiet(m.At.Go().Local().Format("15:04"))
	row[columns-1] = present.Quiet("◂ " + sayMark(m))
	return row
}

// sayMark says what happened at a mark.
func sayMark(m api.Mark) string {
	said := m.Text
	if m.Kind == api.MarkDeploy {
		said += " deployed"
		if m.By != "" {
			said += " on " + m.By
		}
	} else if m.By != "" {
		said += ", by " + m.By
	}
	if m.ID != 0 {
		said += fmt.Sprintf(" (mark %d)", m.ID)
	}
	return said
}

// stepTime is when a step begins, as shortly as its length lets.
func stepTime(at job.Time, step time.Duration) string {
	if step >= 24*time.Hour {
		return at.Go().UTC().Format("2 Jan 2006")
	}
	return at.Go().Local().Format("2 Jan 15:04")
}

func flowCells(f api.Flow, times bool) []string {
	cells := []string{present.Count(f.Enqueued + f.Requeued), present.Count(f.Started), present.Count(f.Done), present.Count(f.Failed), present.Count(f.Dead), present.Count(f.Skipped + f.Cancelled)}
	if !times {
		return cells
	}
	for _, s := range []*api.Spans{f.Wait, f.Run} {
		if s == nil {
			cells = append(cells, "", "")
		} else {
			cells = append(cells, spanOf(s.P50MS), spanOf(s.P95MS))
		}
	}
	return cells
}

// spark draws figures as a line of a few signs, the present at the right edge: each stands for
// as many steps.
func spark(points api.Points) string {
	const wide = 24
	each := max((len(points)+wide-1)/wide, 1)
	var sums []int64
	for end := len(points); end > 0; end -= each {
		sum := int64(-1)
		for _, n := range points[max(end-each, 0):end] {
			if n >= 0 {
				sum = max(sum, 0) + n
			}
		}
		sums = append([]int64{sum}, sums...)
	}
	return sparkOf(sums)
}

// sparkOf draws a sign for each figure; none where it is negative.
func sparkOf(sums []int64) string {
	most := slices.Max(append(slices.Clone(sums), 1))
	var b strings.Builder
	for _, n := range sums {
		switch {
		case n < 0:
			b.WriteRune(' ')
		case n == 0:
			b.WriteRune('·')
		default:
			b.WriteRune([]rune("▁▂▃▄▅▆▇█")[min(int(n*8/most), 7)])
		}
	}
	return b.String()
}

func (a *app) markCommand() *cobra.Command {
	var at string
	var forget int64
	c := &cobra.Command{
		Use: "mark TEXT", Short: "Note a moment that is drawn on every chart, such as a release", Args: args(cobra.MaximumNArgs(1)),
		Long: `Notes a moment that is drawn on every chart of the console, and stands in hmule history. Deployments of worker programs,
changes of settings, pauses, requeues and restarts of the service are noted without it.`,
		Example: "  hmule mark \"v2.3\"\n  hmule mark \"new crane\" --at 10m",
		RunE: func(c *cobra.Command, given []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			if (forget != 0) == (len(given) > 0) {
				return usageError{fmt.Errorf("give a text, such as hmule mark \"v2.3\"; or --delete with the id of a mark, as hmule history shows it")}
			}
			if forget != 0 {
				if err := m.DeleteMark(c.Context(), forget); err != nil {
					return err
				}
				return a.show(struct{}{}, nil, func(o *present.Out) { o.Line("Mark %d is deleted.", forget) })
			}
			when, err := timeOf("at", at, time.Now(), before)
			if err != nil {
				return err
			}
			told, err := m.Mark(c.Context(), api.NewMark{Text: given[0], At: when})
			if err != nil {
				return err
			}
			return a.show(told, []string{fmt.Sprint(told.ID)}, func(o *present.Out) {
				o.Line("Noted at %s: %s (mark %d)", present.Time(told.At), told.Text, told.ID)
				o.Hint("hmule history")
			})
		},
	}
	c.Flags().StringVar(&at, "at", "", "when it was: 10m for ten minutes ago, 09:00, yesterday (default: now)")
	c.Flags().Int64Var(&forget, "delete", 0, "delete the mark of this id instead")
	return c
}
