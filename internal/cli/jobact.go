package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/cli/present"
	"humblemule.example/internal/fields"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

// verb is what is done to jobs that are named by ids, by their key, or by a filter.
type verb struct {
	filter
	asking
	// action is the one on many jobs; empty for a verb that takes no filter.
	action string
	// asks says what is asked before more than one job is changed; empty for a verb that
	// destroys nothing, which asks only before it acts on all that match a filter.
	asks string
	note string
	// one does it to one job.
	one func(m *client.Client, id int64) (job.Job, error)
	// many completes the request for an action on many jobs; nil where there is nothing more.
	many func(r *api.ActRequest) error
}

// flags lets a verb be given a key, or a whole filter.
func (v *verb) flags(c *cobra.Command) {
	if v.action == "" {
		c.Flags().StringVar(&v.key, "key", "", "the producer's own name for the job, instead of its id")
		c.Flags().BoolVar(&v.yes, "yes", false, "do not ask; for scripts")
		return
	}
	v.filter.flags(c)
	v.asking.flags(c)
	c.Flags().StringVar(&v.note, "note", "", "why; kept with the action")
}

// run does the verb to what arguments and flags name.
func (a *app) run(c *cobra.Command, v *verb, given []string) error {
	switch {
	case len(given) > 0 && v.given():
		return usageError{errors.New("ids cannot be combined with a filter; give one of the two")}
	case len(given) == 0 && !v.given():
		return usageError{fmt.Errorf("no job is named; give ids, --key, or a filter such as --cause or --queue; use it as: %s", c.UseLine())}
	}
	ids, err := a.idsOf(c.Context(), v, given)
	if err != nil {
		return err
	}
	if ids == nil {
		return a.actOnMany(c, v)
	}
	return a.actOnEach(c, v, ids)
}

// idsOf gives the jobs that are named one by one: by ids, or by a key that one job has; nil
// where a filter names them.
func (a *app) idsOf(ctx context.Context, v *verb, given []string) (ids []int64, err error) {
	for _, text := range given {
		id, err := jobID(text)
		if err != nil {
			return nil, err
		}
		ids = append(ids, id)
	}
	onlyKey := v.filter
	onlyKey.key = ""
	if len(given) > 0 || v.key == "" || onlyKey.given() {
		return ids, nil
	}
	m, err := a.client()
	if err != nil {
		return nil, err
	}
	page, err := m.ListJobs(ctx, api.Filter{Key: v.key, Limit: api.MaxPage})
	switch {
	case err != nil:
		return nil, err
	case len(page.Jobs) == 0:
		return nil, job.Fault(job.NotFound, "no job has the key %q", v.key)
	case len(page.Jobs) > 1 && v.action != "":
		return nil, nil
	case len(page.Jobs) > 1:
		return nil, usageError{fmt.Errorf("%d jobs have the key %q; name one by its id: hmule job list --key '%s'", len(page.Jobs), v.key, v.key)}
	}
	return []int64{page.Jobs[0].ID}, nil
}

// jobsAnswer are the jobs that a command has changed.
type jobsAnswer struct {
	Jobs []job.Job `json:"jobs"`
}

// actOnEach does a verb to every job that is named. What is refused for one stops no other;
// all refusals are told at the end.
func (a *app) actOnEach(c *cobra.Command, v *verb, ids []int64) error {
	if v.dryRun {
		return a.show(map[string]any{"matched": len(ids)}, nil, func(o *present.Out) {
			o.Line("%s named. Nothing was changed.", sentence.Count(int64(len(ids)), "job is", "jobs are"))
		})
	}
	if v.asks != "" && len(ids) > 1 {
		if err := a.confirm(c, v.yes, "%s %s?", v.asks, many(int64(len(ids)), "job")); err != nil {
			return err
		}
	}
	m, err := a.client()
	if err != nil {
		return err
	}
	done := jobsAnswer{Jobs: []job.Job{}}
	var refused []error
	for _, id := range ids {
		j, err := v.one(m, id)
		if err != nil {
			refused = append(refused, err)
			continue
		}
		done.Jobs = append(done.Jobs, j)
	}
	if len(done.Jobs) > 0 || a.output == "json" && len(refused) == 0 {
		if err := a.show(done, numbers(done.Jobs, func(j *job.Job) int64 { return j.ID }), func(o *present.Out) {
			for _, j := range done.Jobs {
				o.Line("%s", standing(j))
			}
		}); err != nil {
			return err
		}
	}
	if len(refused) == 1 {
		return refused[0]
	}
	return errors.Join(refused...)
}

// standing says where a job stands after it was changed.
func standing(j job.Job) string {
	text := fmt.Sprintf("Job %d is %s", j.ID, present.State(j.State))
	switch {
	case j.State == job.Unplaced:
		return fmt.Sprintf("Job %d was discarded.", j.ID)
	case j.State == job.Running && j.CancelAskedAt != 0:
		return text + " and was asked to end."
	case j.Round > 1 && !j.State.Finished():
		return fmt.Sprintf("%s, round %d.", text, j.Round)
	}
	return text + "."
}

// actOnMany counts the jobs that match, asks, does it, and follows it to its end.
func (a *app) actOnMany(c *cobra.Command, v *verb) error {
	selection, err := v.selection()
	if err != nil {
		return err
	}
	req := api.ActRequest{Action: v.action, Filter: &selection, Note: v.note, DryRun: true}
	if v.many != nil {
		if err := v.many(&req); err != nil {
			return err
		}
	}
	return a.operate(c, req, v.asking)
}

// operate counts what an action on many jobs would change, asks, does it, and follows it to
// its end.
func (a *app) operate(c *cobra.Command, req api.ActRequest, ask asking) error {
	m, err := a.client()
	if err != nil {
		return err
	}
	req.DryRun = true
	op, err := m.ActOnJobs(c.Context(), req)
	if err != nil {
		return err
	}
	if !ask.dryRun {
		if op.Matched == 0 {
			return job.Fault(job.NotFound, "no job matches; nothing was changed")
		}
		if err := a.confirmOperation(c, ask.yes, op, "%s would be %s. Go on?", matchedOf(op), changedWord[op.Action]); err != nil {
			return err
		}
		req.DryRun = false
		if op, err = m.ActOnJobs(c.Context(), req); err == nil {
			op, err = a.follow(c.Context(), m, op)
		}
	}
	return a.showOperation(op, err)
}

func (a *app) jobCancelCommand() *cobra.Command {
	v := &verb{action: api.ActCancel, asks: "Cancel"}
	c := &cobra.Command{
		Use: "cancel [ID...]", Short: "Cancel unfinished jobs; a running job is asked to end",
		Example: "  hmule job cancel 42\n  hmule job cancel --queue archive --task log.pack --dry-run",
		RunE: func(c *cobra.Command, given []string) error {
			v.one = func(m *client.Client, id int64) (job.Job, error) { return m.CancelJob(c.Context(), id) }
			return a.run(c, v, given)
		},
	}
	v.flags(c)
	return c
}

func (a *app) jobStartCommand() *cobra.Command {
	v := &verb{action: api.ActStartNow}
	c := &cobra.Command{
		Use: "start [ID...]", Short: "Start jobs now that wait for their time or their next attempt",
		Example: "  hmule job start 42    # after the fix, instead of waiting for its backoff\n  hmule job start --state backoff --task buoy.poll --yes",
		RunE: func(c *cobra.Command, given []string) error {
			v.one = func(m *client.Client, id int64) (job.Job, error) { return m.StartJob(c.Context(), id) }
			return a.run(c, v, given)
		},
	}
	v.flags(c)
	return c
}

func (a *app) jobRequeueCommand() *cobra.Command {
	v := &verb{action: api.ActRequeue}
	var payload, patch string
	var how api.Requeue
	c := &cobra.Command{
		Use: "requeue [ID...]", Short: "Give finished jobs a new round; their history stays",
		Example: "  hmule job requeue 42\n  hmule job requeue 42 --payload '{\"manifest\":\"heron-0291b\"}'\n  hmule job requeue --task dues.charge --state dead",
		Long: `Give finished jobs a new round; their history stays. With a filter, dead jobs are meant unless
--state names others. To try a few first, use: hmule dead recover`,
		RunE: func(c *cobra.Command, given []string) (err error) {
			if payload != "" {
				if how.Payload, err = payloadOf(payload, c.InOrStdin()); err != nil {
					return err
				}
			}
			if patch != "" {
				if how.PayloadPatch, err = payloadOf(patch, c.InOrStdin()); err != nil {
					return err
				}
			}
			v.one = func(m *client.Client, id int64) (job.Job, error) { return m.RequeueJob(c.Context(), id, how) }
			v.many = func(r *api.ActRequest) error {
				if how.Payload != nil || how.ForgetSteps {
					return usageError{errors.New("--payload and --forget-steps need ids; with a filter, use --payload-patch")}
				}
				r.PayloadPatch = how.PayloadPatch
				return nil
			}
			return a.run(c, v, given)
		},
	}
	v.flags(c)
	c.Flags().StringVar(&payload, "payload", "", "another payload: JSON, @FILE, or - for standard input")
	c.Flags().StringVar(&patch, "payload-patch", "", "edit the payload by a JSON merge patch")
	c.Flags().BoolVar(&how.ForgetSteps, "forget-steps", false, "repeat steps that were done once")
	return c
}

func (a *app) jobAcceptCommand() *cobra.Command {
	v := &verb{}
	var enqueue string
	c := &cobra.Command{
		Use: "accept [ID...]", Short: "Make a job done whose follow-ups were refused, without running it again",
		Example: "  hmule job accept 42\n  hmule job accept 42 --enqueue '[{\"task\":\"notice.publish\",\"payload\":{\"berth\":3}}]'",
		RunE: func(c *cobra.Command, given []string) error {
			var followUps []job.Spec
			if enqueue != "" {
				var all []json.RawMessage
				if err := readJSON("enqueue", enqueue, &all); err != nil {
					return err
				}
				for _, raw := range all {
					var s job.Spec
					if err := readJSON("enqueue", string(raw), &s); err != nil {
						return err
					}
					followUps = append(followUps, s)
				}
			}
			v.one = func(m *client.Client, id int64) (job.Job, error) { return m.AcceptJob(c.Context(), id, followUps...) }
			return a.run(c, v, given)
		},
	}
	v.flags(c)
	c.Flags().StringVar(&enqueue, "enqueue", "", "its follow-ups, a list of specs as JSON (default: none)")
	return c
}

func (a *app) jobEditCommand() *cobra.Command {
	v := &verb{action: api.ActPatch}
	var unset []string
	c := &cobra.Command{
		Use: "edit [ID] NAME=VALUE...", Short: "Change the priority, queue, payload, labels or other fields of a job",
		Example: "  hmule job edit 42 priority=9 labels.berth=berth-3\n  hmule job edit 42 payload=@corrected.json\n  hmule job edit 42 --unset run_at --unset timeout\n  hmule job edit --queue berths --owner 'Marsh Agency' priority=7",
		Long: `Change fields of jobs that are not running; of finished jobs, labels and payload. A dot in a
name goes into an object. A value is JSON where it is valid JSON, and else a text; @FILE
reads it. Fields: queue, priority, run_at, start_by, lane, owner, labels, key, payload,
max_attempts, retry, timeout, keep_result.`,
		RunE: func(c *cobra.Command, given []string) error {
			var ids, assignments []string
			for _, text := range given {
				if assignment.MatchString(text) {
					assignments = append(assignments, text)
				} else {
					ids = append(ids, text)
				}
			}
			change, err := changeOf(assignments, unset, c.InOrStdin())
			if err != nil {
				return err
			}
			v.one = func(m *client.Client, id int64) (job.Job, error) { return a.edit(c.Context(), m, id, change) }
			v.many = func(r *api.ActRequest) (err error) {
				r.Patch, err = json.Marshal(change)
				return err
			}
			return a.run(c, v, ids)
		},
	}
	v.flags(c)
	c.Flags().StringArrayVar(&unset, "unset", nil, "a field to give its default; repeat it for several")
	return c
}

// edit changes one job, and shows what differs.
func (a *app) edit(ctx context.Context, m *client.Client, id int64, change map[string]any) (job.Job, error) {
	exact, err := a.exactClient()
	if err != nil {
		return job.Job{}, err
	}
	was, err := exact.Job(ctx, id)
	if err != nil {
		return was, err
	}
	j, err := m.PatchJob(ctx, id, change)
	if err != nil {
		return j, err
	}
	if now, err := exact.Job(ctx, id); err == nil && a.output == "table" {
		before, after := fieldsOf(was), fieldsOf(now)
		for _, f := range fields.Differ(&before, &after) {
			a.forPeople(a.out).Line("%s", difference(f))
		}
	}
	return j, nil
}

// fieldsOf are the fields of a job that can be edited.
func fieldsOf(j job.Job) job.Spec {
	s := j.SpecOf()
	s.MaxAttempts, s.Retry, s.Timeout, s.KeepResult = &j.MaxAttempts, j.Retry, j.Timeout, j.KeepResult
	s.Labels = maps.Clone(j.Labels)
	return s
}

// difference writes a field before and after.
func difference(f api.SetupField) string {
	value := func(raw json.RawMessage) string {
		if len(raw) == 0 || string(raw) == "null" {
			return "not set"
		}
		return plain(raw)
	}
	return fmt.Sprintf("  %-16s %s → %s", f.Field, value(f.Before), value(f.After))
}

// plain is a value as people write it: texts without quotes.
func plain(value json.RawMessage) string {
	var text string
	if json.Unmarshal(value, &text) == nil {
		return text
	}
	return string(value)
}

func (a *app) jobDiscardCommand() *cobra.Command {
	v := &verb{action: api.ActDiscard, asks: "Discard"}
	c := &cobra.Command{
		Use: "discard [ID...]", Short: "Remove finished jobs; they can be brought back for ten minutes",
		Example: "  hmule job discard 42\n  hmule job discard --cause 4821 --note 'the bank has gone'",
		Long: `Remove finished jobs; they can be brought back for ten minutes: one by hmule job undiscard,
many by hmule operation undo. With a filter, dead jobs are meant unless --state names others.`,
		RunE: func(c *cobra.Command, given []string) error {
			v.one = func(m *client.Client, id int64) (job.Job, error) {
				return job.Job{ID: id}, m.DiscardJob(c.Context(), id)
			}
			return a.run(c, v, given)
		},
	}
	v.flags(c)
	return c
}

func (a *app) jobUndiscardCommand() *cobra.Command {
	v := &verb{}
	return &cobra.Command{
		Use: "undiscard ID...", Short: "Bring back jobs that were discarded within the last ten minutes", Args: args(cobra.MinimumNArgs(1)),
		Example: "  hmule job undiscard 42",
		RunE: func(c *cobra.Command, given []string) error {
			v.one = func(m *client.Client, id int64) (job.Job, error) { return m.UndiscardJob(c.Context(), id) }
			return a.run(c, v, given)
		},
	}
}

func (a *app) jobEndLeaseCommand() *cobra.Command {
	v := &verb{asks: "End the leases of"}
	var how api.EndLease
	c := &cobra.Command{
		Use: "end-lease [ID...]", Short: "Take running jobs from their workers and place them again; the attempt is not counted",
		Long: `End the leases of running jobs. They are placed again, the attempt is not counted, and what
their handlers report from then on is refused. A handler may still be running: a job keeps its
lane until its lease would have ended, unless --free-lane is given.`,
		Example: "  hmule job end-lease 42    # its worker is gone, and its lease is long",
		RunE: func(c *cobra.Command, given []string) error {
			v.one = func(m *client.Client, id int64) (job.Job, error) { return m.EndLease(c.Context(), id, how) }
			return a.run(c, v, given)
		},
	}
	v.flags(c)
	c.Flags().BoolVar(&how.FreeLane, "free-lane", false, "let the lane of a job go on before its lease would have ended")
	return c
}
