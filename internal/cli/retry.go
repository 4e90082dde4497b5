package cli

import (
	"encoding/json"
	"fmt"
	"math"
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

func (a *app) backoffCommand() *cobra.Command {
	var retry, task string
	var maxAttempts, limit int
	c := &cobra.Command{
		Use: "backoff", Short: "Show when each attempt of a retry would come, as a table and a drawing", Args: args(cobra.NoArgs),
		Example: "  hmule backoff\n  hmule backoff --retry '{\"curve\":\"linear\",\"first\":\"30s\",\"step\":\"1m\"}' --max-attempts 6\n  hmule backoff --task dues.charge",
		RunE: func(c *cobra.Command, _ []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			var d api.Defaults
			if task != "" {
				if d, err = defaultsOf(c, m, task); err != nil {
					return err
				}
			}
			if retry != "" {
				d.Retry = new(job.Retry)
				if err := readJSON("retry", retry, d.Retry); err != nil {
					return err
				}
			}
			if c.Flags().Changed("max-attempts") {
				d.MaxAttempts = &maxAttempts
			}
			preview, err := m.PreviewRetry(c.Context(), d.Retry, d.MaxAttempts, limit)
			if err != nil {
				return err
			}
			return a.show(preview, func(o *present.Out) { showPreview(o, preview) })
		},
	}
	f := c.Flags()
	f.StringVar(&retry, "retry", "", "a retry as JSON, as in a spec; the built-in one, unless given")
	f.IntVar(&maxAttempts, "max-attempts", job.DefaultMaxAttempts, "attempts before it is a dead letter; 0 for no limit")
	f.StringVar(&task, "task", "", "begin with the defaults of this task")
	f.IntVar(&limit, "limit", 30, "how many attempts to show, at most 1000")
	return c
}

// readJSON reads a flag's JSON strictly.
func readJSON(flag, text string, v any) error {
	d := json.NewDecoder(strings.NewReader(text))
	d.DisallowUnknownFields()
	if err := d.Decode(v); err != nil {
		return usageError{fmt.Errorf("--%s %q cannot be read: %w", flag, text, err)}
	}
	return nil
}

func defaultsOf(c *cobra.Command, m *client.Client, task string) (api.Defaults, error) {
	t, err := findTask(c, m, task)
	if err != nil || t.Defaults == nil {
		return api.Defaults{}, err
	}
	return *t.Defaults, nil
}

func findTask(c *cobra.Command, m *client.Client, name string) (api.Task, error) {
	all, err := m.Tasks(c.Context())
	if err != nil {
		return api.Task{}, err
	}
	var names []string
	for _, t := range all {
		if t.Name == name {
			return t, nil
		}
		names = append(names, t.Name)
	}
	return api.Task{}, fmt.Errorf("there is no task %q%s; a task exists from its first job or its first defaults", name, sentence.Perhaps(nearest.To(name, names)))
}

// drawn is how many columns the drawing of a preview has.
const drawn = 40

// showPreview draws the attempts on a logarithmic axis of time, jitter as the width
// of each mark.
func showPreview(o *present.Out, p api.RetryPreview) {
	o.Text(0, p.Says)
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
	o.Hint("From the start of the first attempt on, if attempts take no time.")
}

func (a *app) taskCommand() *cobra.Command {
	var set string
	c := &cobra.Command{
		Use: "task TASK", Short: "Show a task and the defaults of its jobs, or set them", Args: args(cobra.ExactArgs(1)),
		Example: "  hmule task dues.charge\n  hmule task dues.charge --set '{\"max_attempts\":5,\"retry\":{\"curve\":\"fixed\",\"first\":\"1m\"}}'\n  hmule task dues.charge --set '{}'    # none any more",
		RunE: func(c *cobra.Command, given []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			var t api.Task
			if set == "" {
				t, err = findTask(c, m, given[0])
			} else {
				var d api.Defaults
				if err := readJSON("set", set, &d); err != nil {
					return err
				}
				t, err = m.SetTask(c.Context(), given[0], d)
			}
			if err != nil {
				return err
			}
			return a.show(t, func(o *present.Out) {
				o.Line("%s", present.Strong(t.Name))
				o.Line("")
				o.Facts(append(facts(t.Counts), [2]string{"workers", fmt.Sprint(t.Workers)})...)
				showDefaults(o, t.Defaults, t.Warnings)
				o.Hint("hmule backoff --task %s", t.Name)
			})
		},
	}
	c.Flags().StringVar(&set, "set", "", "defaults as JSON: queue, priority, max_attempts, retry, timeout, keep_result; what is not given is taken away")
	return c
}

func (a *app) queueCommand() *cobra.Command {
	var set string
	var removes bool
	c := &cobra.Command{
		Use: "queue QUEUE", Short: "Show a queue, or set its order, its limits and the defaults of its jobs", Args: args(cobra.ExactArgs(1)),
		Example: "  hmule queue berths\n  hmule queue berths --set '{\"priority\":6,\"timeout\":\"10m\"}'\n  hmule queue common --set '{\"turns\":\"owner\",\"max_running\":8,\"rate\":{\"per_second\":5}}'",
		RunE: func(c *cobra.Command, given []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			var q api.Queue
			if set == "" {
				q, err = m.Queue(c.Context(), given[0])
			} else {
				var d api.Defaults
				if err := readJSON("set", set, &d); err != nil {
					return err
				}
				put := m.SetQueue
				if removes {
					put = m.SetQueueRemoving
				}
				q, err = put(c.Context(), given[0], d)
			}
			if err != nil {
				return err
			}
			return a.show(q, func(o *present.Out) {
				o.Line("%s", present.Strong(q.Name))
				if q.Paused {
					o.Line("Paused by %s since %s.", q.PausedBy, present.Time(q.PausedAt))
				}
				o.Line("")
				o.Facts(append(facts(q.Counts), [2]string{"workers", fmt.Sprint(q.Workers)}, [2]string{"in a minute", fmt.Sprintf("%.1f", q.InPerMinute)}, [2]string{"out a minute", fmt.Sprintf("%.1f", q.OutPerMinute)})...)
				showRules(o, q)
				showDefaults(o, q.Defaults, q.Warnings)
				showRemoving(o, q.Operation)
			})
		},
	}
	c.Flags().BoolVar(&removes, "removes", false, "with --set: finished jobs that are kept no longer may be removed; an operation does so and can be undone")
	c.Flags().StringVar(&set, "set", "", "settings as JSON: order, boost, turns, owner_weights, lane_on_backoff, lane_on_dead, max_running, rate; priority, max_attempts, retry, timeout, keep_result, keep; what is not given is taken away")
	return c
}

// showRemoving tells of the operation that removes what is kept no longer.
func showRemoving(o *present.Out, operation int64) {
	if operation != 0 {
		o.Line("Operation %d removes the finished jobs that are kept no longer.", operation)
		o.Hint("hmule operation %d      hmule operation %d --undo", operation, operation)
	}
}

// showRules says in what order jobs start, and how many.
func showRules(o *present.Out, q api.Queue) {
	limits := []string{fmt.Sprintf("%s running", sentence.Grouped(q.Running))}
	if q.MaxRunning != nil {
		limits[0] += fmt.Sprintf(" of at most %d", *q.MaxRunning)
	}
	if q.Rate != nil {
		limits = append(limits, fmt.Sprintf("%v starts a second, %d at once", q.Rate.PerSecond, *q.Rate.Burst))
	}
	o.Facts([2]string{"starts", q.Says}, [2]string{"limits", strings.Join(limits, "; ")})
	if q.NewPlaces {
		o.Line("Waiting jobs are given places by a new order just now.")
	}
}

func (a *app) startsCommand() *cobra.Command {
	var limit int
	c := &cobra.Command{
		Use: "starts QUEUE", Short: "Show in what order the jobs of a queue were started, and what each overtook", Args: args(cobra.ExactArgs(1)), Example: "  hmule starts common --limit 50",
		RunE: func(c *cobra.Command, given []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			all, err := m.Starts(c.Context(), given[0], limit)
			if err != nil {
				return err
			}
			return a.show(map[string]any{"starts": all}, func(o *present.Out) { listStarts(o, given[0], all) })
		},
	}
	c.Flags().IntVar(&limit, "limit", 20, "how many to show, at most 500")
	return c
}

func listStarts(o *present.Out, queue string, all []api.Start) {
	if len(all) == 0 {
		o.Line("No job of queue %s was started since the service was.", queue)
		return
	}
	rows := make([][]string, len(all))
	for i, s := range all {
		overtook := ""
		if s.Overtook > 0 {
			ids := make([]string, len(s.First))
			for k, id := range s.First {
				ids[k] = fmt.Sprint(id)
			}
			overtook = fmt.Sprintf("%s: %s", sentence.Grouped(int64(s.Overtook)), strings.Join(ids, ", "))
			if s.Overtook > len(s.First) {
				overtook += " …"
			}
		}
		rows[i] = []string{present.Time(s.StartedAt), fmt.Sprint(s.Job), s.Task, fmt.Sprint(s.Priority), s.Owner, s.Lane, sentence.Roughly(time.Duration(s.WaitedMS) * time.Millisecond), overtook}
	}
	right := func(head string) present.Column { return present.Column{Head: head, Right: true} }
	o.Table([]present.Column{right("started"), right("job"), {Head: "task"}, right("priority"), {Head: "owner"}, {Head: "lane"}, right("was ready for"), {Head: "overtook"}}, rows)
}

func (a *app) passCommand() *cobra.Command {
	return &cobra.Command{
		Use: "pass QUEUE LANE", Short: "Let a lane go on past its dead letter, or past a job in backoff", Args: args(cobra.ExactArgs(2)), Example: "  hmule pass berths berth-3",
		RunE: func(c *cobra.Command, given []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			q, err := m.PassLane(c.Context(), given[0], given[1])
			if err != nil {
				return err
			}
			return a.show(q, func(o *present.Out) { o.Line("Lane %s of queue %s goes on.", given[1], given[0]) })
		},
	}
}

// facts are the counts by state that are not zero.
func facts(counts map[job.State]int64) (all [][2]string) {
	for _, s := range job.States() {
		if counts[s] > 0 {
			all = append(all, [2]string{s.String(), sentence.Grouped(counts[s])})
		}
	}
	return all
}

func showDefaults(o *present.Out, d *api.Defaults, warnings []job.Warning) {
	for _, w := range warnings {
		o.Line("Note: %s", w.Message)
	}
	if d == nil {
		o.Line("No defaults are set; its jobs get what is built in.")
		return
	}
	text, _ := json.Marshal(d) // what has come as JSON goes as JSON
	o.Line("defaults  %s", text)
}
