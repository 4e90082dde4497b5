package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"time"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/cli/present"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

func (a *app) schedulesCommand() *cobra.Command {
	return &cobra.Command{
		Use: "schedules", Short: "List schedules, each in words with its next and its last run", Args: args(cobra.NoArgs), Example: "  hmule schedules",
		RunE: func(c *cobra.Command, _ []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			all, err := m.Schedules(c.Context())
			if err != nil {
				return err
			}
			return a.show(map[string]any{"schedules": append([]api.ScheduleTold{}, all...)}, func(o *present.Out) { listSchedules(o, all) })
		},
	}
}

func listSchedules(o *present.Out, all []api.ScheduleTold) {
	if len(all) == 0 {
		o.Line("No schedule is kept yet.")
		o.Hint("hmule schedule tides --cron '30 3 * * *' --zone Europe/Lisbon --task tide.predict")
		return
	}
	rows := make([][]string, len(all))
	for i, s := range all {
		next := "nothing to come"
		switch {
		case *s.Paused:
			next = "paused by " + s.PausedBy
		case len(s.Next) > 0:
			next = present.Time(s.Next[0].UTC)
		}
		rows[i] = []string{s.Name, s.Job.Task, next, lastRun(s.Last) + failedInARow(s), s.Says}
	}
	o.Table([]present.Column{{Head: "schedule"}, {Head: "task"}, {Head: "next"}, {Head: "last run"}, {Head: "in words"}}, rows)
	o.Hint("hmule schedule %s", all[0].Name)
}

// lastRun says in a few words what became of a run.
func lastRun(r *api.Run) string {
	if r == nil {
		return "none yet"
	}
	return r.Says
}

// failedInARow tells of runs that have died in a row, where there is more than one.
func failedInARow(s api.ScheduleTold) string {
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

const scheduleVerbs = "run, pause, resume or delete"

func (a *app) scheduleCommand() *cobra.Command {
	var set scheduleFlags
	c := &cobra.Command{
		Use: "schedule NAME [run|pause|resume|delete]", Short: "Show a schedule with its history, keep one, or run, pause, resume or delete it", Args: args(cobra.RangeArgs(1, 2)),
		Example: "  hmule schedule tides --cron '30 3 * * *' --zone Europe/Lisbon --task tide.predict --payload '{\"berth\":3}'\n  hmule schedule tides\n  hmule schedule tides pause",
		Long: `Show a schedule with its next times and its history, keep one under a name, or run it now,
pause it, let it go on, or delete it.

What is given by flags takes the place of what was there; the rest stays. --set takes a
whole schedule as JSON. What an expression means is told by: hmule cron 'EXPR' --zone ZONE`,
		RunE: func(c *cobra.Command, given []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			name := given[0]
			if len(given) == 2 {
				return a.askSchedule(c.Context(), m, name, given[1])
			}
			if changes := set.changed(c); changes {
				exact, err := a.exactClient()
				if err != nil {
					return err
				}
				s, err := set.schedule(c, exact, name)
				if err != nil {
					return err
				}
				told, err := m.SetSchedule(c.Context(), name, s)
				if err != nil {
					return err
				}
				return a.show(told, func(o *present.Out) { showSchedule(o, told, nil) })
			}
			told, err := m.Schedule(c.Context(), name)
			if err != nil {
				return err
			}
			runs, err := m.Runs(c.Context(), name, 12)
			if err != nil {
				return err
			}
			return a.show(map[string]any{"schedule": told, "runs": runs}, func(o *present.Out) { showSchedule(o, told, runs) })
		},
	}
	set.add(c)
	return c
}

func (a *app) askSchedule(ctx context.Context, m *client.Client, name, verb string) error {
	var told api.ScheduleTold
	var err error
	said := ""
	switch verb {
	case "run":
		if told, err = m.RunSchedule(ctx, name); err == nil {
			said = fmt.Sprintf("Job %d was enqueued.", told.Last.Job)
		}
	case "pause":
		told, err = m.PauseSchedule(ctx, name, true)
		said = fmt.Sprintf("Schedule %s is paused; times inside the pause are not missed.", name)
	case "resume":
		if told, err = m.PauseSchedule(ctx, name, false); err == nil {
			said = fmt.Sprintf("Schedule %s goes on%s.", name, nextOf(told))
		}
	case "delete":
		err = m.DeleteSchedule(ctx, name)
		said = fmt.Sprintf("Schedule %s and its history are deleted; its jobs stay.", name)
	default:
		return usageError{fmt.Errorf("%q is nothing to do with a schedule; it is %s", verb, scheduleVerbs)}
	}
	if err != nil {
		return err
	}
	return a.show(told, func(o *present.Out) { o.Line("%s", said) })
}

func nextOf(s api.ScheduleTold) string {
	if len(s.Next) == 0 {
		return ""
	}
	return ", next at " + s.Next[0].Local
}

// scheduleFlags are the parts of a schedule as flags.
type scheduleFlags struct {
	set, cron, every, from, zone, task, payload, queue, ifRunning, missed, lateLimit, spread, until, note string
}

func (f *scheduleFlags) add(c *cobra.Command) {
	fl := c.Flags()
	fl.StringVar(&f.cron, "cron", "", "when, as five fields or six with the seconds first")
	fl.StringVar(&f.every, "every", "", "how often, such as 90s, instead of --cron")
	fl.StringVar(&f.from, "from", "", "from when on --every counts; when it was made, unless given")
	fl.StringVar(&f.zone, "zone", "", "time zone of --cron, such as Europe/Lisbon; UTC unless given")
	fl.StringVar(&f.task, "task", "", "what is to be done")
	fl.StringVar(&f.payload, "payload", "", "payload as JSON, or @FILE")
	fl.StringVar(&f.queue, "queue", "", "queue of the jobs")
	fl.StringVar(&f.ifRunning, "if-still-running", "", "skip, wait or also, where the last run is not over")
	fl.StringVar(&f.missed, "missed", "", "skip, once or all, of times that could not be kept")
	fl.StringVar(&f.lateLimit, "late-limit", "", "how late a time may be before it is missed; 1m unless given")
	fl.StringVar(&f.spread, "spread", "", "within what span schedules of one time are spread, to 1h")
	fl.StringVar(&f.until, "until", "", "time after which nothing is planned")
	fl.StringVar(&f.note, "note", "", "a note for people")
	fl.StringVar(&f.set, "set", "", "a whole schedule as JSON, or @FILE")
}

func (f *scheduleFlags) changed(c *cobra.Command) (any bool) {
	for _, name := range []string{"cron", "every", "from", "zone", "task", "payload", "queue", "if-still-running", "missed", "late-limit", "spread", "until", "note", "set"} {
		any = any || c.Flags().Changed(name)
	}
	return any
}

// schedule is what is there under a name, with what the flags say in its place.
func (f *scheduleFlags) schedule(c *cobra.Command, m *client.Client, name string) (s api.Schedule, err error) {
	if f.set != "" {
		raw, err := payloadOf(f.set, c.InOrStdin())
		if err != nil {
			return s, err
		}
		d := json.NewDecoder(bytes.NewReader(raw))
		d.UseNumber()
		d.DisallowUnknownFields()
		if err := d.Decode(&s); err != nil {
			return s, usageError{fmt.Errorf("--set is no schedule: %w", err)}
		}
		return s, nil
	}
	if there, err := m.Schedule(c.Context(), name); err == nil {
		s, s.Paused = there.Schedule, nil
		if s.Every != 0 && f.from == "" && f.every != "" {
			s.From = 0
		}
	}
	return s, f.into(c, &s)
}

func (f *scheduleFlags) into(c *cobra.Command, s *api.Schedule) error {
	if f.cron != "" {
		s.Cron, s.Every, s.From = f.cron, 0, 0
	}
	if f.every != "" {
		s.Cron = ""
	}
	for _, text := range []struct {
		given string
		field *string
	}{{f.zone, &s.Zone}, {f.task, &s.Job.Task}, {f.queue, &s.Job.Queue}, {f.ifRunning, &s.IfStillRunning}, {f.missed, &s.Missed}} {
		if text.given != "" {
			*text.field = text.given
		}
	}
	if c.Flags().Changed("note") {
		s.Note = f.note
	}
	for _, part := range []struct {
		flag, given string
		field       interface{ UnmarshalText([]byte) error }
	}{{"every", f.every, &s.Every}, {"from", f.from, &s.From}, {"late-limit", f.lateLimit, &s.LateLimit}, {"spread", f.spread, &s.Spread}, {"until", f.until, &s.Until}} {
		if part.given == "" {
			continue
		}
		if err := part.field.UnmarshalText([]byte(part.given)); err != nil {
			return usageError{fmt.Errorf("--%s: %w", part.flag, err)}
		}
	}
	if f.payload != "" {
		raw, err := payloadOf(f.payload, os.Stdin)
		if err != nil {
			return err
		}
		s.Job.Payload = raw
	}
	return nil
}

func showSchedule(o *present.Out, s api.ScheduleTold, runs []api.Run) {
	o.Line("%s  %s, %s", present.Strong(s.Name), s.Says, s.Zone)
	when := s.Cron
	if s.Every != 0 {
		when = "every " + s.Every.String() + ", counted from " + present.Time(s.From)
	}
	facts := [][2]string{{"when", when}, {"job", s.Job.Task + present.Quiet(" in queue ") + queueOf(s.Job)}, {"still running", stillRunning[s.IfStillRunning]}, {"missed", missedSays[s.Missed] + "; late by more than " + s.LateLimit.String()}}
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
	facts = append(facts, [2]string{"defined by", map[string]string{api.SettingByFile: "set-up file; the next load of it sets it again", api.SettingByHand: "hand"}[s.DefinedBy]})
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
		rows[i] = []string{present.Time(r.PlannedAt), runNumber(r), runJob(r), r.Says}
	}
	o.Line("")
	o.Table([]present.Column{{Head: "planned", Right: true}, {Head: "run", Right: true}, {Head: "job", Right: true}, {Head: "what became of it"}}, rows)
}

func queueOf(s job.Spec) string {
	if s.Queue == "" {
		return "of its task, else " + job.DefaultQueue
	}
	return s.Queue
}

var (
	stillRunning = map[string]string{api.RunSkips: "a run is skipped while the last one is not over", api.RunWaits: "a run waits for the end of the last one", api.RunsAlso: "runs come also beside the last one"}
	missedSays   = map[string]string{api.MissedSkip: "missed times are skipped", api.MissedOnce: "missed times are made up for once", api.MissedAll: "each missed time is made up for, to 1000"}
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
		o.Table([]present.Column{{Head: "next, by its zone"}, {Head: "UTC"}, {Head: "here"}}, rows)
	}
	for _, n := range notes {
		o.Text(0, n)
	}
}

func (a *app) cronCommand() *cobra.Command {
	var zone string
	var count int
	c := &cobra.Command{
		Use: "cron EXPR", Short: "Say in words what a cron expression means, and when it comes next", Args: args(cobra.ExactArgs(1)), Example: "  hmule cron '30 1 * * mon-fri' --zone Europe/Lisbon",
		RunE: func(c *cobra.Command, given []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			told, err := m.Cron(c.Context(), given[0], zone, count)
			if err != nil {
				return err
			}
			return a.show(told, func(o *present.Out) {
				o.Line("%s, %s", present.Strong(told.Says), told.Zone)
				o.Line("%s", present.Quiet("read as "+told.Form))
				showTimes(o, told.Next, told.Notes)
			})
		},
	}
	c.Flags().StringVar(&zone, "zone", "UTC", "time zone, such as Europe/Lisbon")
	c.Flags().IntVar(&count, "count", 5, "how many times to tell, at most 100")
	return c
}

func (a *app) comingCommand() *cobra.Command {
	var span, queue, task string
	var limit int
	c := &cobra.Command{
		Use: "coming", Short: "Show what becomes due, in time order: planned runs, and jobs that wait for their time", Args: args(cobra.NoArgs), Example: "  hmule coming --span 8h --task tide.predict",
		RunE: func(c *cobra.Command, _ []string) error {
			d, err := job.ParseDuration(span)
			if err != nil {
				return usageError{fmt.Errorf("--span: %w", err)}
			}
			m, err := a.client()
			if err != nil {
				return err
			}
			all, err := m.Coming(c.Context(), d, queue, task, limit)
			if err != nil {
				return err
			}
			return a.show(all, func(o *present.Out) { showComing(o, all) })
		},
	}
	f := c.Flags()
	f.StringVar(&span, "span", "1d", "how far to look, 1m to 31d")
	f.StringVar(&queue, "queue", "", "of one queue only")
	f.StringVar(&task, "task", "", "of one task only")
	f.IntVar(&limit, "limit", 30, "how many to show, at most 500")
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
