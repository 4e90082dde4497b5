package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/cli/present"
	"humblemule.example/internal/fields"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

func (a *app) queueCommand() *cobra.Command {
	return noun("queue", "List, show, set, pause, purge queues",
		a.queueListCommand(), a.queueShowCommand(), a.queueSetCommand(), a.queuePauseCommand(), a.queueResumeCommand(), a.queuePurgeCommand(), a.queueDeleteCommand(), a.queueStartsCommand())
}

func (a *app) queueListCommand() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the queues: how many jobs in each state, and how many workers serve them", Args: args(cobra.NoArgs), Example: "  hmule queue list",
		RunE: func(c *cobra.Command, _ []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			stats, err := m.Stats(c.Context(), "")
			if err != nil {
				return err
			}
			return a.show(stats, names(stats.Queues, func(q *api.Queue) string { return q.Name }), func(o *present.Out) { listQueues(o, stats) })
		},
	}
}

func listQueues(o *present.Out, stats api.Stats) {
	for _, said := range stats.Facts {
		if said.Wrong && said.Queue != "" {
			o.Text(0, present.Local(said.Text))
		}
	}
	if len(stats.Queues) == 0 {
		o.Line("There is no queue yet; a queue exists from its first job.")
		return
	}
	columns := []present.Column{{Head: "queue"}}
	// What was skipped or cancelled needs nobody, and a line has only so much room.
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
			oldest = spanOf(q.OldestReadyMS)
		}
		rows = append(rows, append(row, fmt.Sprintf("%.1f · %.1f", q.InPerMinute, q.OutPerMinute), oldest, fmt.Sprint(q.Workers)))
	}
	o.Table(columns, rows)
	over := "the last minute"
	if since := (time.Duration(stats.WindowMS) * time.Millisecond).Round(time.Second); since < 59*time.Second {
		over = fmt.Sprintf("the %.0f s since the start", since.Seconds())
	}
	o.Hint("in · out/min: over %s. oldest: the longest wait of a ready job.", over)
	o.Hint("hmule queue show %s", stats.Queues[0].Name)
}

func (a *app) queueShowCommand() *cobra.Command {
	return &cobra.Command{
		Use: "show QUEUE", Short: "Show a queue: its jobs, order, limits, and the defaults of its jobs", Args: args(cobra.ExactArgs(1)), Example: "  hmule queue show berths",
		RunE: func(c *cobra.Command, given []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			q, err := m.Queue(c.Context(), given[0])
			if err != nil {
				return err
			}
			return a.show(q, []string{q.Name}, func(o *present.Out) { showQueue(o, q) })
		},
	}
}

func showQueue(o *present.Out, q api.Queue) {
	o.Line("%s", present.Strong(q.Name))
	if q.Paused {
		o.Line("Paused by %s since %s.", q.PausedBy, present.Time(q.PausedAt))
	}
	o.Line("")
	o.Facts(append(facts(q.Counts), [2]string{"workers", fmt.Sprint(q.Workers)}, [2]string{"in", fmt.Sprintf("%.1f per minute", q.InPerMinute)}, [2]string{"out", fmt.Sprintf("%.1f per minute", q.OutPerMinute)})...)
	limits := []string{fmt.Sprintf("%s running", sentence.Grouped(q.Running))}
	if q.MaxRunning != nil {
		limits[0] += fmt.Sprintf(" of at most %d", *q.MaxRunning)
	}
	if q.Rate != nil {
		limits = append(limits, fmt.Sprintf("%v starts per second, bursts of %d", q.Rate.PerSecond, *q.Rate.Burst))
	}
	o.Facts([2]string{"order", q.Summary}, [2]string{"limits", strings.Join(limits, "; ")})
	if q.NewPlaces {
		o.Line("Waiting jobs are being put in the new order.")
	}
	showDefaults(o, q.Defaults)
}

// setting is how a queue, a task or a schedule is set.
type setting[T any] struct {
	noun, fields string
	get          func(ctx context.Context, m *client.Client, name string) (T, error)
	patch        func(ctx context.Context, m *client.Client, name string, change any) (T, error)
	put          func(ctx context.Context, m *client.Client, name string, whole []byte) (T, error)
	// set gives what is set, as an object that can be compared.
	set      func(T) any
	warnings func(T) []job.Warning
	after    func(o *present.Out, v T)
}

// putWhole puts a thing as it is given, in JSON.
func putWhole[T, Status any](put func(m *client.Client, ctx context.Context, name string, v T, options ...client.CallOption) (Status, error)) func(context.Context, *client.Client, string, []byte) (Status, error) {
	return func(ctx context.Context, m *client.Client, name string, whole []byte) (told Status, err error) {
		var v T
		if err := readJSON("replace", string(whole), &v); err != nil {
			return told, err
		}
		return put(m, ctx, name, v)
	}
}

// setCommand makes the command that changes what is named, leaves the rest, and shows what
// differs.
func setCommand[T any](a *app, example, long string, s setting[T]) *cobra.Command {
	var unset []string
	var replace string
	c := &cobra.Command{
		Use: "set " + strings.ToUpper(s.noun) + " NAME=VALUE...", Short: "Change settings of a " + s.noun + "; settings that are not named stay", Args: args(cobra.MinimumNArgs(1)),
		Example: example,
		Long: long + `

A dot in a name goes into an object: rate.per_second=5. A value is JSON where it is valid
JSON, and else a text. --unset gives a setting its default; --replace sets everything.
Fields: ` + s.fields + ".",
		RunE: func(c *cobra.Command, given []string) error {
			name, assignments := given[0], given[1:]
			m, err := a.client()
			if err != nil {
				return err
			}
			was, err := s.get(c.Context(), m, name)
			if err != nil && !errors.Is(err, job.ErrNotFound) {
				return err
			}
			var now T
			if replace != "" {
				if len(assignments)+len(unset) > 0 {
					return usageError{errors.New("--replace sets everything; it cannot be combined with NAME=VALUE or --unset")}
				}
				whole, err := payloadOf(replace, c.InOrStdin())
				if err != nil {
					return err
				}
				now, err = s.put(c.Context(), m, name, whole)
				if err != nil {
					return err
				}
			} else {
				change, err := changeOf(assignments, unset, c.InOrStdin())
				if err != nil {
					return err
				}
				if now, err = s.patch(c.Context(), m, name, change); err != nil {
					return err
				}
			}
			a.warn(s.warnings(now))
			return a.show(now, []string{name}, func(o *present.Out) {
				before, after := s.set(was), s.set(now)
				differ := fields.Differ(&before, &after)
				if len(differ) == 0 {
					o.Line("%s %s: nothing differs.", s.noun, present.Strong(name))
				} else {
					o.Line("%s %s", s.noun, present.Strong(name))
				}
				for _, f := range differ {
					o.Line("%s", difference(f))
				}
				if s.after != nil {
					s.after(o, now)
				}
				o.Hint("hmule %s show %s", s.noun, name)
			})
		},
	}
	c.Flags().StringArrayVar(&unset, "unset", nil, "a setting to give its default; repeat it for several")
	c.Flags().StringVar(&replace, "replace", "", "all settings, as JSON or @FILE; settings that are left out get their defaults")
	return c
}

func (a *app) queueSetCommand() *cobra.Command {
	var removes bool
	options := func() (all []client.CallOption) {
		if removes {
			all = append(all, client.MayRemove())
		}
		return all
	}
	c := setCommand(a, "  hmule queue set berths priority=6 timeout=10m\n  hmule queue set common turns=owner max_running=8 rate.per_second=5\n  hmule queue set berths --unset timeout",
		"Change the order and the limits of a queue, and the defaults of its jobs. Order and limits\ntake effect at once, defaults for jobs that are enqueued or requeued from then on.", setting[api.Queue]{
			noun:   "queue",
			fields: "order, boost, turns, owner_weights, lane_on_backoff, lane_on_dead,\nmax_running, rate, max_waiting, priority, max_attempts, retry, timeout, keep_result, keep",
			get:    func(ctx context.Context, m *client.Client, name string) (api.Queue, error) { return m.Queue(ctx, name) },
			patch: func(ctx context.Context, m *client.Client, name string, change any) (api.Queue, error) {
				return m.PatchQueue(ctx, name, change, options()...)
			},
			put: func(ctx context.Context, m *client.Client, name string, whole []byte) (q api.Queue, err error) {
				var d api.Defaults
				if err := readJSON("replace", string(whole), &d); err != nil {
					return q, err
				}
				return m.PutQueue(ctx, name, d, options()...)
			},
			set:      func(q api.Queue) any { return q.Defaults },
			warnings: func(q api.Queue) []job.Warning { return q.Warnings },
			after:    func(o *present.Out, q api.Queue) { showRemoving(o, q.Operation) },
		})
	c.Flags().BoolVar(&removes, "may-remove", false, "allow a change that removes finished jobs because they are kept for a shorter time; an operation removes them and can be undone")
	return c
}

// showRemoving tells of the operation that removes what is kept no longer.
func showRemoving(o *present.Out, operation int64) {
	if operation != 0 {
		o.Line("Operation %d removes the finished jobs that are no longer kept.", operation)
		o.Hint("hmule operation show %d      hmule operation undo %d", operation, operation)
	}
}

// eachQueue does something to every queue that the arguments name.
func (a *app) eachQueue(c *cobra.Command, given []string, set func(m *client.Client, name string) (api.Queue, error), says string) error {
	m, err := a.client()
	if err != nil {
		return err
	}
	return eachOf(a, given, func(name string) (api.Queue, error) { return set(m, name) }, "queues", func(q *api.Queue) string { return q.Name }, func(q api.Queue) string {
		return fmt.Sprintf(says, q.Name, sentence.Count(q.Counts[job.Ready], "job is", "jobs are"), sentence.Count(q.Counts[job.Running], "job is", "jobs are"))
	})
}

func (a *app) queuePauseCommand() *cobra.Command {
	return &cobra.Command{
		Use: "pause QUEUE...", Short: "Start no more jobs of a queue; running jobs go on", Args: args(cobra.MinimumNArgs(1)), Example: "  hmule queue pause berths",
		RunE: func(c *cobra.Command, given []string) error {
			return a.eachQueue(c, given, func(m *client.Client, name string) (api.Queue, error) { return m.PauseQueue(c.Context(), name) },
				"Queue %s is paused: %s ready, %s running.")
		},
	}
}

func (a *app) queueResumeCommand() *cobra.Command {
	return &cobra.Command{
		Use: "resume QUEUE...", Short: "Start jobs of a queue again", Args: args(cobra.MinimumNArgs(1)), Example: "  hmule queue resume berths",
		RunE: func(c *cobra.Command, given []string) error {
			return a.eachQueue(c, given, func(m *client.Client, name string) (api.Queue, error) { return m.ResumeQueue(c.Context(), name) },
				"Queue %s was resumed: %s ready, %s running.")
		},
	}
}

func (a *app) queuePurgeCommand() *cobra.Command {
	var ask asking
	var r api.PurgeRequest
	c := &cobra.Command{
		Use: "purge QUEUE", Short: "Remove the waiting jobs of a queue; they can be brought back for ten minutes", Args: args(cobra.ExactArgs(1)),
		Example: "  hmule queue purge archive --dry-run    # counts the jobs\n  hmule queue purge archive --task log.pack",
		RunE: func(c *cobra.Command, given []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			r.DryRun = true
			op, err := m.PurgeQueue(c.Context(), given[0], r)
			if err == nil && !ask.dryRun && op.Matched > 0 {
				if err = a.confirmOperation(c, ask.yes, op, "%s of queue %s would be removed. Go on?", matchedOf(op), given[0]); err == nil {
					r.DryRun = false
					if op, err = m.PurgeQueue(c.Context(), given[0], r); err == nil {
						op, err = a.follow(c.Context(), m, op)
					}
				}
			}
			return a.showOperation(op, err)
		},
	}
	ask.flags(c)
	c.Flags().StringSliceVar(&r.Tasks, "task", nil, "only of these tasks")
	c.Flags().StringVar(&r.Note, "note", "", "why; kept with the action")
	return c
}

// deleting makes a command that deletes things by their names.
func (a *app) deleting(what, short string, remove func(m *client.Client, ctx context.Context, name string) error) *cobra.Command {
	var yes bool
	c := &cobra.Command{
		Use: "delete " + strings.ToUpper(what) + "...", Short: short, Args: args(cobra.MinimumNArgs(1)), Example: "  hmule " + what + " delete old-" + what,
		RunE: func(c *cobra.Command, given []string) error {
			if len(given) > 1 {
				if err := a.confirm(c, yes, "Delete %s?", many(int64(len(given)), what)); err != nil {
					return err
				}
			}
			m, err := a.client()
			if err != nil {
				return err
			}
			deleted := []string{}
			var refused []error
			for _, name := range given {
				if err := remove(m, c.Context(), name); err != nil {
					refused = append(refused, err)
					continue
				}
				deleted = append(deleted, name)
			}
			if len(deleted) > 0 {
				if err := a.show(map[string]any{"deleted": deleted}, deleted, func(o *present.Out) {
					for _, name := range deleted {
						o.Line("The %s %s was deleted.", what, name)
					}
				}); err != nil {
					return err
				}
			}
			return errors.Join(refused...)
		},
	}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask; for scripts")
	return c
}

func (a *app) queueDeleteCommand() *cobra.Command {
	return a.deleting("queue", "Delete a queue that has neither jobs nor settings; it comes back with its next job",
		func(m *client.Client, ctx context.Context, name string) error { return m.DeleteQueue(ctx, name) })
}

func (a *app) queueStartsCommand() *cobra.Command {
	var limit int
	c := &cobra.Command{
		Use: "starts QUEUE", Short: "Show in what order the jobs of a queue started, and which jobs each overtook", Args: args(cobra.ExactArgs(1)), Example: "  hmule queue starts common --limit 50",
		RunE: func(c *cobra.Command, given []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			all, err := client.First(limit, m.Starts(c.Context(), given[0]))
			if err != nil {
				return err
			}
			return a.show(map[string]any{"starts": append([]api.Start{}, all...)}, numbers(all, func(s *api.Start) int64 { return s.Job }), func(o *present.Out) { listStarts(o, given[0], all) })
		},
	}
	c.Flags().IntVar(&limit, "limit", 20, "how many to show")
	return c
}

func listStarts(o *present.Out, queue string, all []api.Start) {
	if len(all) == 0 {
		o.Line("No job of queue %s has started since the service started.", queue)
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
		rows[i] = []string{present.Time(s.StartedAt), fmt.Sprint(s.Job), s.Task, fmt.Sprint(s.Priority), s.Owner, s.Lane, spanOf(s.WaitedMS), overtook}
	}
	right := func(head string) present.Column { return present.Column{Head: head, Right: true} }
	o.Table([]present.Column{right("started"), right("job"), {Head: "task"}, right("priority"), {Head: "owner"}, {Head: "lane"}, right("waited"), {Head: "overtook"}}, rows)
}

func (a *app) laneCommand() *cobra.Command {
	return noun("lane", "List the lanes of a queue, and let a stopped one go on", a.laneListCommand(), a.lanePassCommand())
}

func (a *app) laneListCommand() *cobra.Command {
	return &cobra.Command{
		Use: "list QUEUE", Short: "List the lanes of a queue: which job has each, and how many wait for it", Args: args(cobra.ExactArgs(1)), Example: "  hmule lane list berths",
		RunE: func(c *cobra.Command, given []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			all, err := client.Collect(m.Lanes(c.Context(), given[0]))
			if err != nil {
				return err
			}
			return a.show(map[string]any{"lanes": append([]api.Lane{}, all...)}, names(all, func(l *api.Lane) string { return l.Name }), func(o *present.Out) { listLanes(o, given[0], all) })
		},
	}
}

func listLanes(o *present.Out, queue string, all []api.Lane) {
	if len(all) == 0 {
		o.Line("No job has a lane of queue %s.", queue)
		return
	}
	rows := make([][]string, len(all))
	stopped := ""
	for i, l := range all {
		waiting := sentence.Grouped(l.Waiting)
		if l.Waiting == api.MaxLaneCount {
			waiting += " or more"
		}
		rows[i] = []string{l.Name, fmt.Sprint(l.Job), present.State(l.State), l.Task, waiting}
		if l.State == job.Dead && stopped == "" {
			stopped = l.Name
		}
	}
	o.Table([]present.Column{{Head: "lane"}, {Head: "job", Right: true}, {Head: "state"}, {Head: "task"}, {Head: "waiting", Right: true}}, rows)
	if stopped != "" {
		o.Hint("hmule lane pass %s %s   lets it go on past its dead letter", queue, stopped)
	}
}

func (a *app) lanePassCommand() *cobra.Command {
	return &cobra.Command{
		Use: "pass QUEUE LANE", Short: "Let a lane go on past its dead letter, or past a job in backoff", Args: args(cobra.ExactArgs(2)), Example: "  hmule lane pass berths berth-3",
		RunE: func(c *cobra.Command, given []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			q, err := m.PassLane(c.Context(), given[0], given[1])
			if err != nil {
				return err
			}
			return a.show(q, []string{given[1]}, func(o *present.Out) { o.Line("Lane %s of queue %s goes on.", given[1], given[0]) })
		},
	}
}

func (a *app) taskCommand() *cobra.Command {
	return noun("task", "List, show, set tasks", a.taskListCommand(), a.taskShowCommand(), a.taskSetCommand(),
		a.deleting("task", "Delete a task that has neither jobs nor settings; it comes back with its next job",
			func(m *client.Client, ctx context.Context, name string) error { return m.DeleteTask(ctx, name) }))
}

func (a *app) taskListCommand() *cobra.Command {
	return listCommand(a, "tasks", "List the tasks: how many jobs, how long their runs take, how many workers do them",
		collected((*client.Client).Tasks), func(t *api.Task) string { return t.Name }, listTasks)
}

func listTasks(o *present.Out, all []api.Task) {
	if len(all) == 0 {
		o.Line("There is no task yet; a task exists from its first job.")
		return
	}
	rows := make([][]string, len(all))
	for i, t := range all {
		rows[i] = []string{t.Name, present.Count(t.Counts[job.Ready]), present.Count(t.Counts[job.Running]), present.Count(t.Counts[job.Backoff]), present.Count(t.Counts[job.Dead]), "", "", "", "", fmt.Sprint(t.Workers)}
		if t.Run != nil {
			rows[i][5], rows[i][6], rows[i][7] = spanOf(t.Run.P50MS), spanOf(t.Run.P95MS), spanOf(t.Run.MaxMS)
		}
		if t.Failing != nil {
			rows[i][8] = fmt.Sprintf("%.1f %%", 100*float64(t.Failing.Failed)/float64(t.Failing.Started))
		}
	}
	right := func(head string) present.Column { return present.Column{Head: head, Right: true} }
	o.Table([]present.Column{{Head: "task"}, right("ready"), right("running"), right("backoff"), right("dead"), right("p50"), right("p95"), right("longest"), right("fails"), right("workers")}, rows)
	o.Hint("p50, p95, longest: run times, and fails: the share of attempts that failed, over the last week; empty for fewer than 30.")
}

func (a *app) taskShowCommand() *cobra.Command {
	return &cobra.Command{
		Use: "show TASK", Short: "Show a task and the defaults of its jobs", Args: args(cobra.ExactArgs(1)), Example: "  hmule task show dues.charge",
		RunE: func(c *cobra.Command, given []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			t, err := m.Task(c.Context(), given[0])
			if err != nil {
				return err
			}
			return a.show(t, []string{t.Name}, func(o *present.Out) {
				o.Line("%s", present.Strong(t.Name))
				o.Line("")
				o.Facts(append(facts(t.Counts), [2]string{"workers", fmt.Sprint(t.Workers)})...)
				showDefaults(o, t.Defaults)
				o.Hint("hmule explain retry --task %s", t.Name)
			})
		},
	}
}

func (a *app) taskSetCommand() *cobra.Command {
	return setCommand(a, "  hmule task set dues.charge max_attempts=5 retry.curve=fixed retry.first=1m\n  hmule task set dues.charge --unset retry\n  hmule task set dues.charge --replace '{}'    # all defaults removed",
		"Change the defaults of the jobs of a task. They take effect for jobs that are enqueued or requeued from then on.", setting[api.Task]{
			noun: "task", fields: "queue, priority, max_attempts, retry, timeout, keep_result, max_running, hide",
			get: func(ctx context.Context, m *client.Client, name string) (api.Task, error) { return m.Task(ctx, name) },
			patch: func(ctx context.Context, m *client.Client, name string, change any) (api.Task, error) {
				return m.PatchTask(ctx, name, change)
			},
			put: func(ctx context.Context, m *client.Client, name string, whole []byte) (t api.Task, err error) {
				var d api.Defaults
				if err := readJSON("replace", string(whole), &d); err != nil {
					return t, err
				}
				return m.PutTask(ctx, name, d)
			},
			set:      func(t api.Task) any { return t.Defaults },
			warnings: func(t api.Task) []job.Warning { return t.Warnings },
		})
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

// showDefaults shows what is set, a line each.
func showDefaults(o *present.Out, d *api.Defaults) {
	var none *api.Defaults
	set := fields.Differ(none, d)
	if d == nil || len(set) == 0 {
		o.Line("No settings of its own; the built-in ones apply.")
		return
	}
	o.Line("")
	o.Line("%s", present.Quiet("set"))
	for _, f := range set {
		o.Line("  %-16s %s", f.Field, plain(json.RawMessage(f.After)))
	}
}
