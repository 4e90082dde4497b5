package command

import (
	"encoding/json"
	"fmt"

	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/text"
	"humblemule.example/job"
)

// FitReport leaves out the labels of a mended report that a job has no room for.
func FitReport(tx *commit.Tx, l *memory.Lease, r api.Report) (fits api.Report, dropped []job.FieldError) {
	if len(r.Labels) == 0 {
		return r, nil
	}
	if n := len(job.MergeLabels(l.Row.LabelMap(), r.Labels)); n > job.MaxLabels {
		dropped = []job.FieldError{{Field: "labels", Message: fmt.Sprintf("would be %d; at most %d are kept: these were left out", n, job.MaxLabels)}}
		r.Labels = nil
	}
	return r, dropped
}

// Report takes what a handler tells of its job. The lease itself stays as it is:
// the transaction may fail.
func Report(tx *commit.Tx, l *memory.Lease, r *api.Report) error {
	if r.Empty() {
		return nil
	}
	told := *l
	told.ReportedAt = tx.Now
	if r.Progress != nil {
		told.Progress = &job.Progress{Percent: r.Progress.Percent, Note: text.Cut(r.Progress.Note, api.MaxNote)}
	}
	if err := reportLines(tx, &told, r); err != nil {
		return err
	}
	if len(r.Labels) > 0 {
		row := *l.Row
		labels, err := json.Marshal(job.MergeLabels(row.LabelMap(), r.Labels))
		if err != nil {
			return err
		}
		tx.Follows.Count(&row, row.State, -1)
		row.Labels = string(labels)
		tx.Follows.Count(&row, row.State, +1)
		told.Row = &row
		if err := tx.Store.Labels(row.ID, row.Labels); err != nil {
			return err
		}
	}
	tx.Leases.Put(&told)
	tx.News.Touched = append(tx.News.Touched, told.Row.ID)
	return nil
}

// reportLines keeps lines of a log: of each attempt the first ones and the last.
func reportLines(tx *commit.Tx, l *memory.Lease, r *api.Report) error {
	if len(r.Log) == 0 {
		return nil
	}
	n := l.Lines
	if r.LogFrom > 0 {
		n = r.LogFrom - 1
	}
	lastKept := max(l.Lines, n+len(r.Log)) - api.LastLines + 1 // the first one of the last that are kept
	for _, said := range r.Log {
		if n++; n <= l.Lines || n > api.FirstLines && n < lastKept {
			continue // it is kept already, or would not be
		}
		line := api.LogLine{Attempt: l.Row.Attempt, Line: n, At: tx.Now, Text: text.Cut(said, api.MaxLogLine)}
		if err := tx.Store.InsertLine(l.Row.ID, line); err != nil {
			return err
		}
	}
	folds := l.Lines > api.FirstLines && lastKept > api.FirstLines+1
	l.Lines = max(l.Lines, n)
	if !folds {
		return nil
	}
	return tx.Store.FoldLines(l.Row.ID, l.Row.Attempt, api.FirstLines, lastKept)
}

// CheckSteps answers what of an extension's steps is wrong; none is taken then.
func CheckSteps(tx *commit.Tx, l *memory.Lease, x *api.Extension) ([]job.FieldError, error) {
	if len(x.Steps) == 0 {
		return nil, nil
	}
	if wrong := x.CheckSteps(); wrong != nil {
		return wrong, nil
	}
	known, err := tx.Store.StepsOf(l.Row.ID)
	names := map[string]bool{}
	for _, s := range known {
		names[s.Name] = true
	}
	for name := range x.Steps {
		names[name] = true
	}
	if len(names) > api.MaxSteps {
		return []job.FieldError{{Field: "steps", Message: fmt.Sprintf("would be %d; at most %d are kept", len(names), api.MaxSteps)}}, err
	}
	return nil, err
}

// TakeSteps writes what a handler tells of steps, under its live token.
func TakeSteps(tx *commit.Tx, l *memory.Lease, x *api.Extension) error {
	for name, s := range x.Steps {
		var err error
		switch {
		case s.Begun:
			err = tx.Store.BeginStep(l.Row.ID, name, l.Row.Attempt, tx.Now)
		case s.NotDone:
			err = tx.Store.DropStep(l.Row.ID, name)
		default:
			err = tx.Store.EndStep(l.Row.ID, name, l.Row.Attempt, s.Result, tx.Now)
		}
		if err != nil {
			return err
		}
	}
	if len(x.Steps) > 0 {
		tx.News.Touched = append(tx.News.Touched, l.Row.ID)
	}
	return nil
}

// KnownSteps are what earlier attempts of a row have left; a first one has none.
func KnownSteps(tx *commit.Tx, r *store.Row) (map[string]api.StepKnown, error) {
	if r.Attempt <= 1 {
		return nil, nil
	}
	all, err := tx.Store.StepsOf(r.ID)
	if len(all) == 0 {
		return nil, err
	}
	known := map[string]api.StepKnown{}
	for _, s := range all {
		known[s.Name] = api.StepKnown{Result: s.Result, InDoubt: s.DoneAt == 0}
	}
	return known, err
}
