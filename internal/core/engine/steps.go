package engine

import (
	"context"
	"fmt"
	"sort"

	"humblemule/internal/core/store"
	"humblemule/job"
)

// checkSteps answers what of an extension's steps is wrong; none is taken then.
func (tx *txn) checkSteps(l *lease, x *job.Extension) ([]job.FieldError, error) {
	if len(x.Steps) == 0 {
		return nil, nil
	}
	if wrong := x.CheckSteps(); wrong != nil {
		return wrong, nil
	}
	known, err := tx.e.store.StepsOf(l.row.ID)
	names := map[string]bool{}
	for _, s := range known {
		names[s.Name] = true
	}
	for name := range x.Steps {
		names[name] = true
	}
	if len(names) > job.MostSteps {
		return []job.FieldError{{Field: "steps", Message: fmt.Sprintf("would be %d; at most %d are kept", len(names), job.MostSteps)}}, err
	}
	return nil, err
}

// takeSteps writes what a handler tells of steps, under its live token.
func (tx *txn) takeSteps(l *lease, x *job.Extension) error {
	for name, s := range x.Steps {
		var err error
		switch {
		case s.Begun:
			err = tx.e.store.BeginStep(l.row.ID, name, l.row.Attempt, tx.now)
		case s.NotDone:
			err = tx.e.store.DropStep(l.row.ID, name)
		default:
			err = tx.e.store.EndStep(l.row.ID, name, l.row.Attempt, s.Result, tx.now)
		}
		if err != nil {
			return err
		}
	}
	if len(x.Steps) > 0 {
		tx.touched = append(tx.touched, l.row.ID)
	}
	return nil
}

// knownSteps are what earlier attempts of a row have left; a first one has none.
func (tx *txn) knownSteps(r *store.Row) (map[string]job.StepKnown, error) {
	if r.Attempt <= 1 {
		return nil, nil
	}
	all, err := tx.e.store.StepsOf(r.ID)
	if len(all) == 0 {
		return nil, err
	}
	known := map[string]job.StepKnown{}
	for _, s := range all {
		known[s.Name] = job.StepKnown{Result: s.Result, InDoubt: s.DoneAt == 0}
	}
	return known, err
}

// tellSteps tells the steps of a job.
func (e *Engine) tellSteps(ctx context.Context, r *store.Row) ([]job.Step, error) {
	all, err := e.store.Steps(ctx, r.ID)
	var told []job.Step
	for _, s := range all {
		state := job.StepInDoubt
		switch {
		case s.DoneAt != 0:
			state = job.StepDone
		case r.State == job.Running && r.Attempt == s.Attempt:
			state = job.StepBegun
		}
		told = append(told, job.Step{Name: s.Name, State: state, Attempt: s.Attempt, BegunAt: s.BegunAt, DoneAt: s.DoneAt, Result: s.Result})
	}
	sort.SliceStable(told, func(i, j int) bool { return told[i].BegunAt < told[j].BegunAt })
	return told, err
}
