package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/cli/present"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

func (a *app) scheduleCommand() *cobra.Command {
	return noun("schedule", "List, show, set, run, pause schedules; show what is coming",
		a.scheduleListCommand(), a.scheduleShowCommand(), a.scheduleSetCommand(),
		a.scheduleVerb("run", "Enqueue a run of a schedule now", (*client.Client).RunSchedule, func(s api.ScheduleStatus) string {
			if s.Last.Batch != 0 {
				return fmt.Sprintf("Batch %d was started.", s.Last.Batch)
			}
			return fmt.Sprintf("Job %d was enqueued.", s.Last.Job)
		}),
		a.scheduleVerb("pause", "Pause a schedule; times during a pause are not missed", (*client.Client).PauseSchedule, func(s api.ScheduleStatus) string {
			return fmt.Sprintf("Schedule %s is paused.", s.Name)
		}),
		a.scheduleVerb("resume", "Resume a schedule", (*client.Client).ResumeSchedule, func(s api.ScheduleStatus) string {
			return fmt.Sprintf("Schedule %s was resumed%s.", s.Name, nextOf(s))
		}),
		a.deleting("schedule", "Delete a schedule and its history; its jobs stay",
			func(m *client.Client, ctx context.Context, name string) error { return m.DeleteSchedule(ctx, name) }),
		a.scheduleComingCommand())
}

func (a *app) scheduleListCommand() *cobra.Command {
	return listCommand(a, "schedules", "List schedules, each in words, with its next and its last run",
		collected((*client.Client).Schedules), func(s *api.ScheduleStatus) string { return s.Name }, listSchedules)
}

func listSchedules(o *present.Out, all []api.ScheduleStatus) {
	if len(all) == 0 {
		o.Line("There is no schedule yet.")
		o.Hint("hmule schedule set tides cron='30 3 * * *' zone=Europe/Lisbon job.task=tide.predict")
		return
	}
	rows := make([][]string, len(all))
	for i, s := range all {
		next := "none"
		switch {
		case *s.Paused:
			next = "paused by " + s.PausedBy
		case len(s.Next) > 0:
			next = present.Time(s.Next[0].UTC)
		}
		rows[i] = []string{s.Name, s.Run().Task, next, lastRun(s.Last) + failedInARow(s), s.Summary}
	}
	o.Table([]present.Column{{Head: "schedule"}, {Head: "task"}, {Head: "next"}, {Head: "last run"}, {Head: "in words"}}, rows)
	o.Hint("hmule schedule show %s", all[0].Name)
}

// lastRun says in a few words what became of a run.
func lastRun(r *api.Run) string {
	if r == nil {
		return "none yet"
	}
	return r.Summary
}

// failedInARow tells of runs that have died in a row, where there is more than one.
func failedInARow(s api.ScheduleStatus) string {
	if s.FailedInARow < 2 {
		return ""
	}
	return fmt.Sprintf(", the %s in a row", ordinal(s.FailedInARow))
}

func ordinal(n int64) string {
	ending := "th"
	if tens := n / 10 % 10; tens != 1 {
		ending = map[int64]string{1: "st", 2: "nd", 3: "rd"}[n%10]
		if ending == "" {
			ending = "th"
		}
	}
	return sentence.Grouped(n) + ending
}

func (a *app) scheduleShowCommand() *cobra.Command {
	var limit int
	c := &cobra.Command{
		Use: "show SCHEDULE", Short: "Show a schedule with its next times and its history", Args: args(cobra.ExactArgs(1)), Example: "  hmule schedule show tides",
		RunE: func(c *cobra.Command, given []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			told, err := m.Schedule(c.Context(), given[0])
			if err != nil {
				return err
			}
			runs, err := client.First(limit, m.Runs(c.Context(), given[0]))
			if err != nil {
				return err
			}
			return a.show(map[string]any{"schedule": told, "runs": append([]api.Run{}, runs...)}, []string{told.Name}, func(o *present.Out) { showSchedule(o, told, runs) })
		},
	}
	c.Flags().IntVar(&limit, "runs", 12, "how many runs to show; the last thousand are kept")
	return c
}

func (a *app) scheduleSetCommand() *cobra.Command {
	return setCommand(a, "  hmule schedule set tides cron='30 3 * * *' zone=Europe/Lisbon job.task=tide.predict 'job.payload={\"berth\":3}'\n  hmule schedule set buoys every=90s job.task=buoy.poll missed=skip\n  hmule schedule set tides --unset until",
		"Make a schedule, or change one. It has a cron expression or a period (every), and a job, which\nhas the fields of a spec. What an expression means: hmule explain cron 'EXPR' --zone ZONE", setting[api.ScheduleStatus]{
			noun: "schedule", fields: "cron, every, from, zone, job, if_still_running, missed, late_limit, spread, paused,\nuntil, note",
			get: func(ctx context.Context, m *client.Client, name string) (api.ScheduleStatus, error) {
				return m.Schedule(ctx, name)
			},
			patch: func(ctx context.Context, m *client.Client, name string, change any) (api.ScheduleStatus, error) {
				return m.PatchSchedule(ctx, name, oneRule(change.(map[string]any)))
			},
			put: putWhole((*client.Client).PutSchedule),
			set: func(s api.ScheduleStatus) any {
				if s.Name == "" {
					return nil
				}
				return s.Schedule
			},
			warnings: func(s api.ScheduleStatus) []job.Warning { return s.Warnings },
			after: func(o *present.Out, s api.ScheduleStatus) {
				o.Line("%s, %s%s", s.Summary, s.Zone, nextOf(s))
			},
		})
}

// oneRule lets cron and every take each other's place.
func oneRule(change map[string]any) map[string]any {
	_, cron := change["cron"]
	_, every := change["every"]
	switch {
	case cron && !every:
		change["every"], change["from"] = nil, nil
	case every && !cron:
		change["cron"] = nil
	}
	return change
}

func (a *app) scheduleVerb(verb, short string, do func(*client.Client, context.Context, string) (api.ScheduleStatus, error), says func(api.ScheduleStatus) string) *cobra.Command {
	return &cobra.Command{
		Use: verb + " SCHEDULE...", Short: short, Args: args(cobra.MinimumNArgs(1)), Example: "  hmule schedule " + verb + " tides",
		RunE: func(c *cobra.Command, given []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			return eachOf(a, given, func(name string) (api.ScheduleStatus, error) { return do(m, c.Context(), name) }, "schedules",
				func(s *api.ScheduleStatus) string { return s.Name }, says)
		},
	}
}

func nextOf(s api.ScheduleStatus) string {
	if len(s.Next) == 0 {
		return ""
	}
	return ", next at " + s.Next[0].Local
}

// enqueues tells what a schedule enqueues.
func enqueues(s *api.Schedule) [2]string {
	run := s.Run()
	where := run.Task + present.Quiet(" in queue ") + queueOf(*run)
	if s.Batch == nil {
		return [2]string{"job", where}
	}
	name := ""
	if s.Batch.Name != "" {
		name = s.Batch.Name + ", "
	}
	return [2]string{"batch", name + many(int64(len(s.Batch.Jobs)+1), "job") + ", the last one " + where}
}

func showSchedule(o *present.Out, s api.ScheduleStatus, runs []api.Run) {
	o.Line("%s  %s, %s", present.Strong(s.Name), s.Summary, s.Zone)
	when := s.Cron
	if s.Every != 0 {
		when = "every " + s.Every.String() + ", counted from " + present.Time(s.From)
	}
	facts := [][2]string{{"when", when}, enqueues(&s.Schedule), {"if still running", stillRunning[s.IfStillRunning]}, {"missed", missedSays[s.Missed] + "; a time is missed after " + s.LateLimit.String()}}
	if s.Spread != 0 {
		facts = append(facts, [2]string{"spread", fmt.Sprintf("within %s; this one comes %s later", s.Spread, sentence.Roughly(time.Duration(s.SpreadMS)*time.Millisecond))})
	}
	if *s.Paused {
		facts = append(facts, [2]string{"paused", "by " + s.PausedBy + " since " + present.Time(s.PausedAt)})
	}
	if s.Until != 0 {
		facts = append(facts, [2]string{"until", present.Time(s.Until)})
	}
	if s.FailedInARow > 0 {
		facts = append(facts, [2]string{"failed", many(s.FailedInARow, "run") + " in a row"})
	}
	if s.LastDoneAt != 0 {
		facts = append(facts, [2]string{"last done", present.Time(s.LastDoneAt) + present.Quiet("  "+o.Age(s.LastDoneAt))})
	}
	facts = append(facts, [2]string{"defined by", map[string]string{api.SettingByFile: "a set-up file; its next load sets it again", api.SettingByHand: "a command, the API or the console"}[s.DefinedBy]})
	if s.Note != "" {
		facts = append(facts, [2]string{"note", s.Note})
	}
	o.Facts(facts...)
	showTimes(o, s.Next, s.Notes)
	for _, w := range s.Warnings {
		o.Line("Note: %s", w.Message)
	}
	if len(runs) == 0 {
		return
	}
	rows := make([][]string, len(runs))
	for i, r := range runs {
		rows[i] = []string{present.Time(r.PlannedAt), runNumber(r), runJob(r), r.Summary}
	}
	o.Line("")
	o.Table([]present.Column{{Head: "planned", Right: true}, {Head: "run", Right: true}, {Head: "job", Right: true}, {Head: "result"}}, rows)
}

func queueOf(s job.Spec) string {
	if s.Queue == "" {
		return "of its task (default: " + job.DefaultQueue + ")"
	}
	return s.Queue
}

var (
	stillRunning = map[string]string{api.RunSkips: "a run is skipped while the last one is unfinished", api.RunWaits: "a run waits until the last one is finished", api.RunsAlso: "runs overlap"}
	missedSays   = map[string]string{api.MissedSkip: "missed times are skipped", api.MissedOnce: "one run makes up for all missed times", api.MissedAll: "each missed time gets a run, up to 1000"}
)

func runNumber(r api.Run) string {
	if r.Number == 0 {
		return ""
	}
	return fmt.Sprint(r.Number)
}

func runJob(r api.Run) string {
	if r.Job == 0 {
		return ""
	}
	return fmt.Sprint(r.Job)
}

// runOf says which run of which schedule a job is; empty where it is none.
func runOf(by *job.ScheduledBy) string {
	if by == nil {
		return ""
	}
	return fmt.Sprintf("%s, run %d, planned for %s", by.Name, by.Run, present.Time(by.PlannedAt))
}

func showTimes(o *present.Out, times []api.Instant, notes []string) {
	if len(times) > 0 {
		rows := make([][]string, len(times))
		for i, t := range times {
			rows[i] = []string{t.Local, t.UTC.Go().Format("2006-01-02 15:04:05"), present.Time(t.UTC)}
		}
		o.Line("")
		o.Table([]present.Column{{Head: "next, in its zone"}, {Head: "UTC"}, {Head: "here"}}, rows)
	}
	for _, n := range notes {
		o.Text(0, n)
	}
}

func (a *app) scheduleComingCommand() *cobra.Command {
	var span string
	var q api.ComingQuery
	c := &cobra.Command{
		Use: "coming", Short: "Show what becomes due, in time order: planned runs, and jobs that wait for their time", Args: args(cobra.NoArgs), Example: "  hmule schedule coming --span 8h --task tide.predict",
		RunE: func(c *cobra.Command, _ []string) error {
			if err := readInto("span", span, &q.Span); err != nil {
				return err
			}
			m, err := a.client()
			if err != nil {
				return err
			}
			all, err := m.ListComing(c.Context(), q)
			if err != nil {
				return err
			}
			return a.show(all, nil, func(o *present.Out) { showComing(o, all) })
		},
	}
	f := c.Flags()
	f.StringVar(&span, "span", "1d", "how far to look ahead, 1m to 31d")
	f.StringVar(&q.Queue, "queue", "", "only this queue")
	f.StringVar(&q.Task, "task", "", "only this task")
	f.IntVar(&q.Limit, "limit", 30, "how many to show, at most 500")
	return c
}

func showComing(o *present.Out, all api.Coming) {
	if len(all.Items) == 0 {
		o.Line("Nothing becomes due until %s.", present.Time(all.Until))
		return
	}
	rows := make([][]string, len(all.Items))
	for i, x := range all.Items {
		what := "schedule " + x.Schedule
		if x.Job != 0 {
			what = fmt.Sprintf("job %d, %s", x.Job, x.State)
		}
		rows[i] = []string{present.Time(x.At), "in " + sentence.Roughly(x.At.Sub(all.AsOf)), x.Task, x.Queue, what}
	}
	o.Table([]present.Column{{Head: "due", Right: true}, {Head: "", Right: true}, {Head: "task"}, {Head: "queue"}, {Head: "by"}}, rows)
	runs, jobs := int64(0), int64(0)
	for i := range all.Runs {
		runs, jobs = runs+all.Runs[i], jobs+all.Jobs[i]
	}
	until := all.Until
	if all.CountedTo != 0 {
		until = all.CountedTo
	}
	o.Line("%s and %s until %s.", many(runs, "planned run"), many(jobs, "job"), present.Time(until))
}
