package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/cli/present"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

func (a *app) deadCommand() *cobra.Command {
	return noun("dead", "Show what jobs died of, and recover dead letters after a fix", a.deadListCommand(), a.deadShowCommand(), a.deadRecoverCommand())
}

func (a *app) deadListCommand() *cobra.Command {
	var f api.CauseFilter
	var state string
	c := &cobra.Command{
		Use: "list", Short: "List what jobs died of: one cause per line, most jobs first", Args: args(cobra.NoArgs),
		Example: "  hmule dead list\n  hmule dead list --error 'weight' --queue berths\n  hmule dead list --state backoff    # what still fails, before it dies",
		RunE: func(c *cobra.Command, _ []string) error {
			s, err := job.ParseState(state)
			if err != nil {
				return usageError{fmt.Errorf("--state: %w", err)}
			}
			f.State = s
			m, err := a.client()
			if err != nil {
				return err
			}
			all, err := client.Collect(m.Causes(c.Context(), f))
			if err != nil {
				return err
			}
			return a.show(map[string]any{"causes": append([]api.Cause{}, all...)}, numbers(all, func(c *api.Cause) int64 { return c.ID }), func(o *present.Out) { listCauses(o, all, f) })
		},
	}
	fl := c.Flags()
	fl.StringVar(&state, "state", "dead", "dead, or backoff for what will be retried")
	fl.StringVar(&f.Queue, "queue", "", "queue")
	fl.StringVar(&f.Task, "task", "", "task")
	fl.StringVar(&f.Error, "error", "", "words in the errors")
	return c
}

func listCauses(o *present.Out, all []api.Cause, f api.CauseFilter) {
	if len(all) == 0 {
		what := map[job.State]string{job.Dead: "dead letter", job.Backoff: "job in backoff"}[f.State]
		if f.Queue+f.Task+f.Error == "" {
			o.Line("There is no %s.", what)
		} else {
			o.Line("No %s matches.", what)
		}
		return
	}
	rows := make([][]string, len(all))
	for i, c := range all {
		rows[i] = []string{sentence.Grouped(c.Count), fmt.Sprint(c.ID), tasksOf(c), trendOf(c.Hours), o.Age(c.LastAt), c.Template + ofSchedules(c)}
	}
	o.Table([]present.Column{{Head: "jobs", Right: true}, {Head: "cause"}, {Head: "task"}, {Head: "48 hours"}, {Head: "last"}, {Head: "error, with # and <…> where it varies"}}, rows)
	if f.State == job.Dead {
		o.Hint("hmule dead show %d      hmule dead recover --cause %d --trial 3", all[0].ID, all[0].ID)
	} else {
		o.Hint("hmule job list --cause %d", all[0].ID)
	}
}

// ofSchedules says how many of a cause's jobs are superseded runs, where any are.
func ofSchedules(c api.Cause) string {
	if c.Superseded == 0 {
		return ""
	}
	return fmt.Sprintf(" (%s of %s)", many(c.Superseded, "superseded run"), many(c.Schedules, "schedule"))
}

// tasksOf names the tasks of a cause's jobs.
func tasksOf(c api.Cause) string {
	var names []string
	for _, b := range c.By {
		if !slices.Contains(names, b.Task) {
			names = append(names, b.Task)
		}
	}
	if len(names) > 1 {
		return fmt.Sprintf("%s and %d more", names[0], len(names)-1)
	}
	return strings.Join(names, "")
}

// trendOf draws failures by four hours, the present at the right edge.
func trendOf(hours []int64) string {
	const together = 4
	var sums []int64
	for i := 0; i+together <= len(hours); i += together {
		n := int64(0)
		for _, h := range hours[i : i+together] {
			n += h
		}
		sums = append(sums, n)
	}
	return sparkOf(sums)
}

func (a *app) deadShowCommand() *cobra.Command {
	return &cobra.Command{
		Use: "show CAUSE", Short: "Show one cause: its errors, where it happens, and since when", Args: args(cobra.ExactArgs(1)), Example: "  hmule dead show 4821",
		RunE: func(c *cobra.Command, given []string) error {
			id, err := strconv.ParseInt(given[0], 10, 64)
			if err != nil || id < 1 {
				return usageError{fmt.Errorf("%q is not the id of a cause, as hmule dead list shows it", given[0])}
			}
			m, err := a.client()
			if err != nil {
				return err
			}
			told, err := m.Cause(c.Context(), id)
			if err != nil {
				return err
			}
			return a.show(told, []string{fmt.Sprint(told.ID)}, func(o *present.Out) { showCause(o, told) })
		},
	}
}

func showCause(o *present.Out, c api.Cause) {
	o.Line("%s  %s", present.Strong(fmt.Sprintf("Cause %d", c.ID)), many(c.Count, "dead letter")+ofSchedules(c))
	o.Text(0, c.Template)
	o.Line("")
	o.Facts(
		[2]string{"type", c.Type}, [2]string{"first", present.Time(c.FirstAt) + present.Quiet("  "+o.Age(c.FirstAt))}, [2]string{"last", present.Time(c.LastAt) + present.Quiet("  "+o.Age(c.LastAt))},
		[2]string{"attempts", sentence.Grouped(c.Total) + " failed in all"}, [2]string{"48 hours", trendOf(c.Hours)}, [2]string{"latest job", fmt.Sprint(c.Job)},
	)
	if len(c.By) > 0 {
		o.Line("")
		rows := make([][]string, len(c.By))
		for i, b := range c.By {
			rows[i] = []string{b.Task, b.Queue, b.Version, b.Host, sentence.Grouped(b.Count)}
		}
		o.Table([]present.Column{{Head: "task"}, {Head: "queue"}, {Head: "worker version"}, {Head: "host"}, {Head: "jobs", Right: true}}, rows)
	}
	if len(c.Samples) > 0 {
		o.Line("")
		o.Line("%s", present.Quiet("latest errors"))
		for _, s := range c.Samples {
			o.Text(2, s)
		}
	}
	o.Hint("hmule job list --cause %d      hmule dead recover --cause %d --trial 3", c.ID, c.ID)
}

func (a *app) deadRecoverCommand() *cobra.Command {
	var f filter
	var ask asking
	var ids []int64
	var note, patch string
	var trial int
	var perSecond float64
	c := &cobra.Command{
		Use: "recover", Short: "Requeue many dead letters after a fix: a few first, the rest only when these are done", Args: args(cobra.NoArgs),
		Example: "  hmule dead recover --cause 4821 --trial 3\n  hmule dead recover --task dues.charge --payload-patch '{\"bank\":\"harbour-savings\"}' --per-second 50 --yes",
		Long: `Requeue dead letters. A few go first, on trial; the rest follows only when all of these are
done, and stays dead otherwise. With --trial 0 all are requeued at once.`,
		RunE: func(c *cobra.Command, _ []string) error {
			if !f.given() && len(ids) == 0 {
				return usageError{errors.New("no dead letter is named; give a filter such as --cause or --task, or --state dead for all")}
			}
			selection, err := f.selection()
			if err != nil {
				return err
			}
			req := api.ActRequest{Action: api.ActRequeue, Filter: &selection, Note: note, Trial: trial, PerSecond: perSecond}
			if len(ids) > 0 {
				req.Filter, req.IDs = nil, ids
			}
			if patch != "" {
				if req.PayloadPatch = json.RawMessage(patch); !json.Valid(req.PayloadPatch) {
					return usageError{fmt.Errorf("--payload-patch %q is not valid JSON", patch)}
				}
			}
			return a.operate(c, req, ask)
		},
	}
	f.flags(c)
	ask.flags(c)
	fl := c.Flags()
	fl.Int64SliceVar(&ids, "id", nil, "ids of dead letters, instead of a filter")
	fl.IntVar(&trial, "trial", 1, "how many go first, up to 100; 0 requeues all at once")
	fl.StringVar(&patch, "payload-patch", "", "edit each payload by a JSON merge patch")
	fl.Float64Var(&perSecond, "per-second", 0, "requeue at most so many per second")
	fl.StringVar(&note, "note", "", "why; kept with the action")
	return c
}
