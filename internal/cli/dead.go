package cli

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/cli/present"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

func (a *app) deadCommand() *cobra.Command {
	var f api.CauseFilter
	var state string
	c := &cobra.Command{
		Use: "dead", Short: "Show what jobs died of: a cause a line, most jobs first", Args: args(cobra.NoArgs),
		Example: "  hmule dead\n  hmule dead --error 'weight' --queue berths\n  hmule dead --state backoff    # what still fails, before it dies",
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
			all, err := m.Causes(c.Context(), f)
			if err != nil {
				return err
			}
			return a.show(map[string]any{"causes": all}, func(o *present.Out) { listCauses(o, all, s) })
		},
	}
	fl := c.Flags()
	fl.StringVar(&state, "state", "dead", "dead, or backoff for what is tried again")
	fl.StringVar(&f.Queue, "queue", "", "queue")
	fl.StringVar(&f.Task, "task", "", "task")
	fl.StringVar(&f.Error, "error", "", "a text that the errors hold")
	return c
}

func listCauses(o *present.Out, all []api.Cause, state job.State) {
	if len(all) == 0 {
		o.Line("No job is %s so.", state)
		return
	}
	rows := make([][]string, len(all))
	for i, c := range all {
		rows[i] = []string{sentence.Grouped(c.Count), fmt.Sprint(c.ID), tasksOf(c), trendOf(c.Hours), o.Age(c.LastAt), c.Template + ofSchedules(c)}
	}
	o.Table([]present.Column{{Head: "jobs", Right: true}, {Head: "cause"}, {Head: "task"}, {Head: "2 days"}, {Head: "last"}, {Head: "error, # and <…> where it varies"}}, rows)
	if state == job.Dead {
		o.Hint("hmule jobs --cause %d      hmule recover --cause %d --trial 3", all[0].ID, all[0].ID)
	} else {
		o.Hint("hmule jobs --cause %d", all[0].ID)
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
	most := int64(1)
	for i := 0; i+together <= len(hours); i += together {
		n := int64(0)
		for _, h := range hours[i : i+together] {
			n += h
		}
		sums, most = append(sums, n), max(most, n)
	}
	var b strings.Builder
	for _, n := range sums {
		if n == 0 {
			b.WriteRune('·')
		} else {
			b.WriteRune([]rune("▁▂▃▄▅▆▇█")[min(int(n*8/most), 7)])
		}
	}
	return b.String()
}

// selection are the flags that say which jobs an action on many is for.
type selection struct {
	states, queues, tasks, labels []string
	owner, key, err, since, until string
	cause                         int64
	ids                           []int64
	dryRun                        bool
	note, payloadPatch, patch     string
	trial                         int
	perSecond                     float64
}

func (s *selection) flags(c *cobra.Command) {
	f := c.Flags()
	f.StringSliceVar(&s.states, "state", nil, "states; dead ones for requeue and discard, unless given")
	f.StringSliceVar(&s.queues, "queue", nil, "queues")
	f.StringSliceVar(&s.tasks, "task", nil, "tasks")
	f.StringVar(&s.owner, "owner", "", "owner")
	f.StringVar(&s.key, "key", "", "the producer's own name for the job")
	f.StringArrayVar(&s.labels, "label", nil, "label, as name=value")
	f.Int64Var(&s.cause, "cause", 0, "a cause's id, as hmule dead shows it")
	f.StringVar(&s.err, "error", "", "a text that the errors hold")
	f.StringVar(&s.since, "since", "", "enqueued at or after")
	f.StringVar(&s.until, "until", "", "enqueued before")
	f.Int64SliceVar(&s.ids, "id", nil, "ids, instead of all else")
	f.BoolVar(&s.dryRun, "dry-run", false, "count, and change nothing")
	f.StringVar(&s.note, "note", "", "why; kept with the action")
	f.StringVar(&s.payloadPatch, "payload-patch", "", "with requeue: edits each payload (JSON merge patch)")
	f.Float64Var(&s.perSecond, "per-second", 0, "at most so many a second")
}

// request makes the request that the flags ask for.
func (s *selection) request(action string) (r api.ActRequest, err error) {
	r = api.ActRequest{Action: action, IDs: s.ids, DryRun: s.dryRun, Note: s.note, Trial: s.trial, PerSecond: s.perSecond}
	for _, edit := range []struct {
		flag, text string
		into       *json.RawMessage
	}{{"payload-patch", s.payloadPatch, &r.PayloadPatch}, {"set", s.patch, &r.Patch}} {
		if edit.text == "" {
			continue
		}
		if *edit.into = json.RawMessage(edit.text); !json.Valid(*edit.into) {
			return r, usageError{fmt.Errorf("--%s %q is no JSON", edit.flag, edit.text)}
		}
	}
	if len(s.ids) > 0 {
		return r, nil
	}
	f := &api.Selection{Queues: s.queues, Tasks: s.tasks, Owner: s.owner, Key: s.key, Cause: s.cause, Error: s.err}
	for _, word := range s.states {
		state, err := job.ParseState(word)
		if err != nil {
			return r, usageError{fmt.Errorf("--state: %w", err)}
		}
		f.States = append(f.States, state)
	}
	for _, pair := range s.labels {
		name, value, ok := strings.Cut(pair, "=")
		if !ok {
			return r, usageError{fmt.Errorf("--label %q is no pair; write name=value", pair)}
		}
		if f.Labels == nil {
			f.Labels = map[string]string{}
		}
		f.Labels[name] = value
	}
	if err := readInto("since", s.since, &f.Since); err != nil {
		return r, err
	}
	if err := readInto("until", s.until, &f.Until); err != nil {
		return r, err
	}
	if len(s.states)+len(s.queues)+len(s.tasks)+len(s.labels) == 0 && s.owner+s.key+s.err+s.since+s.until == "" && s.cause == 0 {
		return r, usageError{fmt.Errorf("which jobs is not said; narrow them by a flag such as --cause, --queue or --id, or name states with --state")}
	}
	r.Filter = f
	return r, nil
}

func (a *app) recoverCommand() *cobra.Command {
	var s selection
	c := &cobra.Command{
		Use: "recover", Short: "Requeue many dead letters after a fix: a few first, the rest only when these are done", Args: args(cobra.NoArgs),
		Example: "  hmule recover --cause 4821 --trial 3\n  hmule recover --task dues.charge --payload-patch '{\"bank\":\"harbour-savings\"}' --per-second 50",
		RunE:    func(c *cobra.Command, _ []string) error { return a.actOnMany(c, api.ActRequeue, &s) },
	}
	s.flags(c)
	c.Flags().IntVar(&s.trial, "trial", 1, "how many go first, to 100; 0 requeues all at once")
	return c
}

func (a *app) actCommand() *cobra.Command {
	var s selection
	c := &cobra.Command{
		Use: "act cancel|requeue|start_now|discard|patch", Short: "Do something to all jobs that match", Args: args(cobra.ExactArgs(1)),
		Example: "  hmule act cancel --queue archive --task log.pack --dry-run\n  hmule act discard --cause 4821 --note 'the bank has gone'\n" +
			"  hmule act patch --queue berths --owner 'Marsh Agency' --set '{\"priority\":7}'",
		RunE: func(c *cobra.Command, given []string) error { return a.actOnMany(c, given[0], &s) },
	}
	s.flags(c)
	c.Flags().StringVar(&s.patch, "set", "", "with patch: the fields to change, as PATCH of a job takes them (JSON)")
	return c
}

// purgeCommand removes what waits in a queue. It counts first, and does it when it is
// told to a second time.
func (a *app) purgeCommand() *cobra.Command {
	var yes bool
	var tasks []string
	var note string
	c := &cobra.Command{
		Use: "purge QUEUE", Short: "Remove what waits in a queue; it can be brought back for ten minutes", Args: args(cobra.ExactArgs(1)),
		Example: "  hmule purge archive          # says how many jobs it would remove\n  hmule purge archive --yes    # removes them",
		RunE: func(c *cobra.Command, given []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			op, err := m.Purge(c.Context(), given[0], tasks, note, !yes)
			if err == nil && yes {
				op, err = a.follow(c, m, op)
			}
			if err != nil {
				return err
			}
			return a.show(op, func(o *present.Out) {
				showOperation(o, op)
				if op.DryRun && op.Matched > 0 {
					o.Hint("hmule purge %s --yes", strings.Join(append(given, tasks...), " --task "))
				}
			})
		},
	}
	c.Flags().BoolVar(&yes, "yes", false, "remove them")
	c.Flags().StringSliceVar(&tasks, "task", nil, "only of these tasks")
	c.Flags().StringVar(&note, "note", "", "why; kept with the action")
	return c
}

// actOnMany asks for an action and follows it to its end.
func (a *app) actOnMany(c *cobra.Command, action string, s *selection) error {
	req, err := s.request(action)
	if err != nil {
		return err
	}
	m, err := a.client()
	if err != nil {
		return err
	}
	op, err := m.Act(c.Context(), req)
	if err != nil {
		return err
	}
	if !s.dryRun {
		if op, err = a.follow(c, m, op); err != nil {
			return err
		}
	}
	return a.show(op, func(o *present.Out) { showOperation(o, op) })
}

// follow waits for the end of an operation, telling people how it goes.
func (a *app) follow(c *cobra.Command, m *client.Client, op api.Operation) (api.Operation, error) {
	err := present.New(a.err)
	told := ""
	for !op.Over() {
		if text := howFar(op); text != told && a.output == "table" {
			err.Hint("%s", text)
			told = text
		}
		select {
		case <-time.After(time.Second):
		case <-c.Context().Done():
			return op, nil
		}
		var failed error
		if op, failed = m.Operation(c.Context(), op.ID); failed != nil {
			return op, failed
		}
	}
	return op, nil
}

func howFar(op api.Operation) string {
	leave := fmt.Sprintf("   Ctrl-C leaves it running; hmule operation %d --stop ends it.", op.ID)
	switch op.State {
	case api.OpTrial:
		return fmt.Sprintf("The trial of %d jobs runs.", len(op.TrialIDs)) + leave
	case api.OpUndoing:
		return "What it has removed comes back.   Ctrl-C does not keep it from that."
	}
	return fmt.Sprintf("%s of %s changed.", sentence.Grouped(op.Changed), many(op.Matched, "job")) + leave
}

var changedWord = map[string]string{api.ActCancel: "cancelled or asked to end", api.ActRequeue: "requeued", api.ActStartNow: "started", api.ActDiscard: "discarded", api.ActPatch: "changed", api.ActPurge: "removed"}

func showOperation(o *present.Out, op api.Operation) {
	matched := many(op.Matched, "job")
	if op.MatchedIs == "at_least" {
		matched = "at least " + matched
	}
	switch {
	case op.DryRun:
		o.Line("%s would be %s. Nothing was changed.", matched, changedWord[op.Action])
		if op.Example != nil {
			o.Line("The payload of job %d, for one:", op.Example.Job)
			o.Text(2, string(op.Example.Before))
			o.Line("would be:")
			o.Text(2, string(op.Example.After))
		}
		return
	case op.State == api.OpUndone:
		o.Line("Operation %d was undone: its jobs are back.", op.ID)
		return
	case op.State == api.OpUndoing:
		o.Line("Operation %d is being undone: its jobs come back.", op.ID)
		return
	}
	o.Line("Operation %d is %s: %s of %s %s.", op.ID, op.State, sentence.Grouped(op.Changed), matched, changedWord[op.Action])
	if op.Why != "" {
		o.Text(0, "It was stopped: "+op.Why+".")
	}
	for _, r := range op.Refused {
		o.Line("Not changed: %s", r.Message)
	}
	if more := op.RefusedCount - int64(len(op.Refused)); more > 0 {
		o.Line("And %s more.", sentence.Grouped(more))
	}
	if op.UndoUntil != 0 {
		o.Hint("hmule operation %d --undo   brings them back until %s", op.ID, present.Time(op.UndoUntil))
	}
}

func (a *app) operationCommand() *cobra.Command {
	var stop, undo bool
	c := &cobra.Command{
		Use: "operation ID", Short: "Show how an action on many jobs stands; stop it, or undo its removals", Args: args(cobra.ExactArgs(1)), Example: "  hmule operation 7\n  hmule operation 7 --undo",
		RunE: func(c *cobra.Command, given []string) error {
			id, err := strconv.ParseInt(given[0], 10, 64)
			if err != nil || id < 1 || stop && undo {
				return usageError{fmt.Errorf("give the number of one operation, and --stop or --undo at most")}
			}
			m, err := a.client()
			if err != nil {
				return err
			}
			do := m.Operation
			if stop {
				do = m.StopOperation
			} else if undo {
				do = m.UndoOperation
			}
			op, err := do(c.Context(), id)
			if err == nil && undo {
				op, err = a.follow(c, m, op)
			}
			if err != nil {
				return err
			}
			return a.show(op, func(o *present.Out) { showOperation(o, op) })
		},
	}
	c.Flags().BoolVar(&stop, "stop", false, "change nothing more; what was changed stays so")
	c.Flags().BoolVar(&undo, "undo", false, "bring back what it has removed, within ten minutes")
	return c
}

func (a *app) actionsCommand() *cobra.Command {
	var id int64
	var limit int
	c := &cobra.Command{
		Use: "actions", Short: "Show what operators did, by whom and when, latest first", Args: args(cobra.NoArgs), Example: "  hmule actions\n  hmule actions --job 42",
		RunE: func(c *cobra.Command, _ []string) error {
			m, err := a.client()
			if err != nil {
				return err
			}
			all, err := m.Actions(c.Context(), id, limit)
			if err != nil {
				return err
			}
			return a.show(map[string]any{"actions": all}, func(o *present.Out) {
				if len(all) == 0 {
					o.Line("Nobody has done anything yet.")
					return
				}
				rows := make([][]string, len(all))
				for i, t := range all {
					number := ""
					if t.Job != 0 {
						number = fmt.Sprint(t.Job)
					}
					detail := string(t.Detail)
					if detail == "{}" {
						detail = ""
					}
					rows[i] = []string{present.Time(t.At), t.Principal, t.Action, number, detail}
				}
				o.Table([]present.Column{{Head: "at"}, {Head: "by"}, {Head: "action"}, {Head: "job", Right: true}, {Head: "detail"}}, rows)
			})
		},
	}
	c.Flags().Int64Var(&id, "job", 0, "to this job")
	c.Flags().IntVar(&limit, "limit", 20, "how many to show, at most 500")
	return c
}
