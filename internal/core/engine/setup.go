package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"

	"humblemule/job"
)

// owned is what comes from a file: the names of queues and tasks whose settings it
// defines, and what it says of retention and triage.
type owned struct {
	Queues    []string         `json:"queues"`
	Tasks     []string         `json:"tasks"`
	Schedules []string         `json:"schedules,omitzero"`
	Retention *job.Retention   `json:"retention,omitzero"`
	Triage    []job.TriageRule `json:"triage,omitzero"`
	// ByHand are the settings of these queues and tasks that were changed by hand since:
	// their names, by queue and task in the words of [job.Setting].
	ByHand map[string][]string `json:"by_hand,omitzero"`
}

func readOwned(text string) (o owned, err error) {
	if text == "" {
		return o, nil
	}
	return o, json.Unmarshal([]byte(text), &o)
}

func (v *view) own(o owned) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.owned = o
}

// Load makes the settings those of a file, in one transaction: it sets what the file
// defines, and takes away what an earlier load has defined and this one no longer names.
// What was set otherwise stays; where the file names it too it is refused, unless the
// request adopts it.
func (e *Engine) Load(ctx context.Context, req job.SetupRequest) (diff job.SetupDiff, err error) {
	if err := job.Wrong("nothing was loaded", e.checkSetup(&req)); err != nil {
		return diff, err
	}
	diff.Changes = []job.SetupChange{}
	detail := &diff
	change := func(tx *txn) (func(int64) error, error) {
		diff = job.SetupDiff{Changes: []job.SetupChange{}}
		wrong := tx.diff(&req, &diff)
		if req.DryRun {
			return nil, nil
		}
		if tx.removesAll(&req) {
			wrong = append(wrong, job.FieldError{Field: "empty", Message: "is not true, and the set-up defines nothing: it would take away all that an earlier one has defined; say empty: true where that is meant"})
		}
		if err := job.Wrong("nothing was loaded", append(wrong, tx.checkRoom(&req)...)); err != nil {
			return nil, err
		}
		if err := tx.load(&req, callOf(ctx).Principal); err != nil {
			return nil, err
		}
		diff.Loaded = true
		return nil, nil
	}
	if req.DryRun {
		if err := e.do(ctx, func(tx *txn) error { _, err := change(tx); return err }); err != nil {
			return diff, err
		}
		gone, err := e.leavingBy(ctx, e.keepingNow(), e.keepingWith(&req))
		diff.Removes = gone.n
		return diff, err
	}
	operation, err := e.shorten(ctx, "a set-up keeps finished jobs for a shorter time", req.Removes, e.keepingNow(), e.keepingWith(&req), func(also func(tx *txn) error) error {
		return e.record(ctx, "load_setup", 0, detail, func(tx *txn) (func(int64) error, error) {
			if _, err := change(tx); err != nil {
				return nil, err
			}
			return nil, also(tx)
		})
	})
	diff.Operation = operation
	return diff, err
}

func (e *Engine) checkSetup(req *job.SetupRequest) (wrong []job.FieldError) {
	check := func(kind string, all map[string]job.Defaults, ofQueue bool) {
		for _, name := range slices.Sorted(maps.Keys(all)) {
			at := kind + "." + name
			d := all[name]
			for _, w := range append(job.CheckName(at, name), d.Check(ofQueue)...) {
				if w.Field != at {
					w.Field = at + "." + w.Field
				}
				wrong = append(wrong, w)
			}
		}
	}
	check("queues", req.Queues, true)
	check("tasks", req.Tasks, false)
	for _, name := range slices.Sorted(maps.Keys(req.Schedules)) {
		s := req.Schedules[name]
		for _, w := range e.checkSchedule(name, &s, e.now()) {
			w.Field = "schedules." + name + "." + w.Field
			wrong = append(wrong, w)
		}
	}
	if req.Retention != nil {
		for _, w := range req.Retention.Check() {
			w.Field = "retention." + w.Field
			wrong = append(wrong, w)
		}
	}
	return append(wrong, job.CheckTriage(req.Triage)...)
}

// diff tells what a setup would do, and what of it is refused.
func (tx *txn) diff(req *job.SetupRequest, diff *job.SetupDiff) (wrong []job.FieldError) {
	own := tx.owned()
	queues, tasks := map[string]*job.Defaults{}, map[string]*job.Defaults{}
	for name, q := range tx.e.view.queues {
		queues[name] = tx.queueDefaults(q)
	}
	for name, id := range tx.e.view.tasks {
		tasks[name] = tx.taskDefaults(id)
	}
	wrong = append(diffNamed(req, diff, "queue", queues, req.Queues, own.Queues), diffNamed(req, diff, "task", tasks, req.Tasks, own.Tasks)...)
	wrong = append(wrong, diffNamed(req, diff, "schedule", tx.schedulesBeside(req.Schedules), req.Schedules, own.Schedules)...)
	diffWhole(diff, "retention", own.Retention, req.Retention)
	diffWhole(diff, "triage", rulesOrNone(own.Triage), rulesOrNone(req.Triage))
	return wrong
}

// schedulesBeside are the schedules as they can be compared with others: whether one is
// paused counts only where the other says it.
func (tx *txn) schedulesBeside(others map[string]job.Schedule) map[string]*job.Schedule {
	all := map[string]*job.Schedule{}
	for name, s := range tx.e.view.schedules {
		if s.gone() {
			continue
		}
		if s = tx.schedule(s.row.ID); s == nil {
			continue
		}
		is, paused := s.is, s.row.PausedAt != 0
		if others[name].Paused != nil {
			is.Paused = &paused
		}
		all[name] = &is
	}
	return all
}

// diffNamed tells what a setup does to all of a kind, of which some are its own.
func diffNamed[T any](req *job.SetupRequest, diff *job.SetupDiff, kind string, is map[string]*T, wanted map[string]T, own []string) (wrong []job.FieldError) {
	for _, name := range slices.Sorted(maps.Keys(wanted)) {
		d := wanted[name]
		c := job.SetupChange{Kind: kind, Name: name, Change: job.SetupChanges, Fields: job.Differ(is[name], &d)}
		switch mine := slices.Contains(own, name); {
		case !mine && is[name] == nil:
			c.Change = job.SetupAdds
		case !mine:
			c.Change = job.SetupAdopts
			if !req.Adopt {
				wrong = append(wrong, job.FieldError{Field: kind + "s." + name, Message: "was set otherwise than by a file; take it out of the file, or load with adopt"})
			}
		case len(c.Fields) == 0:
			diff.Same++
			continue
		}
		diff.Changes = append(diff.Changes, c)
	}
	for _, name := range own {
		if _, named := wanted[name]; !named {
			diff.Changes = append(diff.Changes, job.SetupChange{Kind: kind, Name: name, Change: job.SetupRemoves, Fields: job.Differ(is[name], nil)})
		}
	}
	for _, name := range slices.Sorted(maps.Keys(is)) {
		if _, named := wanted[name]; !named && is[name] != nil && !slices.Contains(own, name) {
			diff.Others = append(diff.Others, kind+" "+name)
		}
	}
	return wrong
}

// diffWhole tells what a setup does to what only a file defines.
func diffWhole[T any](diff *job.SetupDiff, kind string, is, wanted *T) {
	c := job.SetupChange{Kind: kind, Change: job.SetupChanges, Fields: job.Differ(is, wanted)}
	switch {
	case is == nil && wanted == nil:
		return
	case is == nil:
		c.Change = job.SetupAdds
	case wanted == nil:
		c.Change = job.SetupRemoves
	case len(c.Fields) == 0:
		diff.Same++
		return
	}
	diff.Changes = append(diff.Changes, c)
}

// triageRules are rules as an object, so that they can be compared as others are.
type triageRules struct {
	Rules []job.TriageRule `json:"rules"`
}

func rulesOrNone(rules []job.TriageRule) *triageRules {
	if len(rules) == 0 {
		return nil
	}
	return &triageRules{rules}
}

func (tx *txn) owned() owned {
	if tx.owns != nil {
		return *tx.owns
	}
	return tx.e.view.owned
}

// removesAll tells whether a setup that defines nothing, without saying so, would take away
// what is defined.
func (tx *txn) removesAll(req *job.SetupRequest) bool {
	own := tx.owned()
	defines := len(req.Queues)+len(req.Tasks)+len(req.Schedules)+len(req.Triage) > 0 || req.Retention != nil
	owns := len(own.Queues)+len(own.Tasks)+len(own.Schedules)+len(own.Triage) > 0 || own.Retention != nil
	return !req.Empty && !defines && owns
}

// checkRoom refuses a setup that would make more names than a service has room for.
func (tx *txn) checkRoom(req *job.SetupRequest) (wrong []job.FieldError) {
	var problem *job.Problem
	if errors.As(tx.canMake(slices.Collect(maps.Keys(req.Queues)), slices.Collect(maps.Keys(req.Tasks))), &problem) {
		for _, f := range problem.Fields {
			wrong = append(wrong, job.FieldError{Field: f.Field + "s", Message: fmt.Sprintf("would be more than %d in all, with those that are there already", mostNames)})
		}
	}
	more := 0
	for name := range req.Schedules {
		if tx.scheduleNamed(name) == nil {
			more++
		}
	}
	for _, name := range tx.owned().Schedules {
		if _, named := req.Schedules[name]; !named && tx.scheduleNamed(name) != nil {
			more--
		}
	}
	if n := len(tx.e.view.schedules) + tx.moreSchedules + more; n > job.MostSchedules {
		wrong = append(wrong, job.FieldError{Field: "schedules", Message: fmt.Sprintf("would be %d in all; at most %d are kept", n, job.MostSchedules)})
	}
	return wrong
}

// load sets what a setup defines and takes away what it no longer names.
func (tx *txn) load(req *job.SetupRequest, by string) error {
	if err := tx.unload(tx.owned(), req); err != nil { // first, which makes room
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(req.Tasks)) {
		if _, err := tx.setTask(name, req.Tasks[name]); err != nil {
			return err
		}
	}
	for _, name := range slices.Sorted(maps.Keys(req.Queues)) {
		if _, err := tx.setQueue(name, req.Queues[name]); err != nil {
			return err
		}
	}
	for _, name := range slices.Sorted(maps.Keys(req.Schedules)) {
		if _, err := tx.setSchedule(name, req.Schedules[name], by); err != nil {
			return err
		}
	}
	tx.owns = &owned{Schedules: slices.Sorted(maps.Keys(req.Schedules)), Queues: slices.Sorted(maps.Keys(req.Queues)), Tasks: slices.Sorted(maps.Keys(req.Tasks)), Retention: req.Retention, Triage: req.Triage}
	return tx.putOwned()
}

func (tx *txn) putOwned() error {
	text, err := json.Marshal(tx.owns)
	if err != nil {
		return fmt.Errorf("what the file defines cannot be written: %w", err)
	}
	return tx.e.store.PutOwned(string(text))
}

// noteHand notes which settings of a queue or a task that a file defines were changed by
// hand.
func (tx *txn) noteHand(of string, defined bool, before *job.Defaults, after job.Defaults) error {
	if !defined {
		return nil
	}
	was := map[string]string{}
	for _, s := range job.SettingsOf(of, before, "", "") {
		was[s.Name] = string(s.Value)
	}
	own := tx.owned()
	changed := slices.Clone(own.ByHand[of])
	for _, s := range job.SettingsOf(of, &after, "", "") {
		if was[s.Name] != string(s.Value) && !slices.Contains(changed, s.Name) {
			changed = append(changed, s.Name)
		}
	}
	if len(changed) == len(own.ByHand[of]) {
		return nil
	}
	own.ByHand = maps.Clone(own.ByHand)
	if own.ByHand == nil {
		own.ByHand = map[string][]string{}
	}
	own.ByHand[of] = changed
	tx.owns = &own
	return tx.putOwned()
}

// unload takes away what an earlier load has defined and this one no longer names. A
// queue that never had a job goes whole.
func (tx *txn) unload(before owned, req *job.SetupRequest) error {
	for _, name := range before.Schedules {
		if _, named := req.Schedules[name]; !named {
			if err := tx.deleteSchedule(name); err != nil {
				return err
			}
		}
	}
	for _, name := range before.Tasks {
		if _, named := req.Tasks[name]; !named {
			if _, err := tx.setTask(name, job.Defaults{}); err != nil {
				return err
			}
		}
	}
	for _, name := range before.Queues {
		if _, named := req.Queues[name]; named {
			continue
		}
		if _, err := tx.setQueue(name, job.Defaults{}); err != nil {
			return err
		}
		if q := tx.queue(name); tx.unused(q) {
			if err := tx.unmake(q); err != nil {
				return err
			}
		}
	}
	return nil
}

// unused tells whether a queue never had a job and nobody has paused it.
func (tx *txn) unused(q *queue) bool {
	used := len(q.tasks) > 0 || tx.paused(q) || q.past != stateCounts{}
	for g := range tx.counts {
		used = used || g.queue == q.id
	}
	return !used
}

// unmake removes a queue that was never used.
func (tx *txn) unmake(q *queue) error {
	if tx.unmade == nil {
		tx.unmade = map[*queue]bool{}
	}
	tx.unmade[q] = true
	delete(tx.newQueues, q.name)
	tx.setWalk(q, nil)
	for g := range tx.counts {
		if g.queue == q.id {
			delete(tx.counts, g) // they are all zero
		}
	}
	return tx.e.store.DropQueue(q.id)
}

// Settings tells all that is in force in the data file, and where each comes from: what
// is built in, what was set for single queues and tasks, retention and triage.
func (e *Engine) Settings() job.Settings {
	v := &e.view
	v.mu.RLock()
	defer v.mu.RUnlock()
	all := job.SettingsOf("queues", job.BuiltInQueue(), job.SettingBuiltIn, "")
	all = append(all, job.SettingsOf("tasks", job.BuiltInTask(), job.SettingBuiltIn, "")...)
	add := func(of string, d *job.Defaults, defined bool) {
		for _, s := range job.SettingsOf(of, d, job.SettingByHand, "") {
			if defined && !slices.Contains(v.owned.ByHand[of], s.Name) {
				s.From = job.SettingByFile
			}
			all = append(all, s)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(v.queues)) {
		add("queue "+name, v.queues[name].defaults, slices.Contains(v.owned.Queues, name))
	}
	for _, name := range slices.Sorted(maps.Keys(v.tasks)) {
		add("task "+name, v.taskDefaults[v.tasks[name]], slices.Contains(v.owned.Tasks, name))
	}
	set := map[string]bool{}
	for _, s := range job.SettingsOf("retention", v.owned.Retention, job.SettingByFile, "") {
		all, set[s.Name] = append(all, s), true
	}
	for _, s := range job.SettingsOf("retention", v.owned.Retention.Whole(), job.SettingBuiltIn, "") {
		if !set[s.Name] {
			all = append(all, s)
		}
	}
	for i, r := range v.owned.Triage {
		all = append(all, job.Setting{Of: "triage", Name: fmt.Sprintf("rule %d", i+1), Value: job.SettingValue(r), From: job.SettingByFile})
	}
	return job.Settings{Version: v.settings.Load(), Settings: all}
}
