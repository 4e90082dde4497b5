package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"humblemule/core/job"
)

// owned are the names whose settings come from a file.
type owned struct {
	Queues []string `json:"queues"`
	Tasks  []string `json:"tasks"`
}

func readOwned(text string) (o owned, err error) {
	if text == "" {
		return o, nil
	}
	return o, json.Unmarshal([]byte(text), &o)
}

// Load makes the settings of queues and tasks those of a file, in one transaction: it sets
// what the file defines, and takes away what an earlier load has defined and this one no
// longer names. What was set otherwise stays; where the file names it too it is refused,
// unless the request adopts it.
func (e *Engine) Load(ctx context.Context, req job.SetupRequest) (diff job.SetupDiff, err error) {
	if err := job.Wrong("nothing was loaded", checkSetup(&req)); err != nil {
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
		if err := job.Wrong("nothing was loaded", wrong); err != nil {
			return nil, err
		}
		if err := tx.load(&req); err != nil {
			return nil, err
		}
		diff.Loaded = true
		return nil, nil
	}
	if req.DryRun {
		return diff, e.do(ctx, func(tx *txn) error { _, err := change(tx); return err })
	}
	return diff, e.record(ctx, "load_setup", 0, detail, change)
}

func checkSetup(req *job.SetupRequest) (wrong []job.FieldError) {
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
	return wrong
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
	one := func(kind string, is map[string]*job.Defaults, wanted map[string]job.Defaults, own []string) {
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
	}
	one("queue", queues, req.Queues, own.Queues)
	one("task", tasks, req.Tasks, own.Tasks)
	return wrong
}

func (tx *txn) owned() owned {
	if tx.owns != nil {
		return *tx.owns
	}
	return tx.e.owned
}

// load sets what a setup defines and takes away what it no longer names.
func (tx *txn) load(req *job.SetupRequest) error {
	before := tx.owned()
	queues, tasks := maps.Clone(req.Queues), maps.Clone(req.Tasks)
	for _, name := range before.Queues {
		if _, named := queues[name]; !named {
			queues = with(queues, name)
		}
	}
	for _, name := range before.Tasks {
		if _, named := tasks[name]; !named {
			tasks = with(tasks, name)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(tasks)) {
		if _, err := tx.setTask(name, tasks[name]); err != nil {
			return err
		}
	}
	for _, name := range slices.Sorted(maps.Keys(queues)) {
		if _, err := tx.setQueue(name, queues[name]); err != nil {
			return err
		}
	}
	tx.owns = &owned{Queues: slices.Sorted(maps.Keys(req.Queues)), Tasks: slices.Sorted(maps.Keys(req.Tasks))}
	text, err := json.Marshal(tx.owns)
	if err != nil {
		return fmt.Errorf("what the file defines cannot be written: %w", err)
	}
	return tx.e.store.PutOwned(string(text))
}

func with(all map[string]job.Defaults, name string) map[string]job.Defaults {
	if all == nil {
		all = map[string]job.Defaults{}
	}
	all[name] = job.Defaults{}
	return all
}
