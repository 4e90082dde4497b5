package engine

import (
	"context"
	"encoding/json"
	"fmt"

	"humblemule/job"
)

// fitReport leaves out the labels of a mended report that a job has no room for.
func (tx *txn) fitReport(l *lease, r job.Report) (fits job.Report, dropped []job.FieldError) {
	if len(r.Labels) == 0 {
		return r, nil
	}
	if n := len(job.MergeLabels(labelsOf(l.row), r.Labels)); n > job.MaxLabels {
		dropped = []job.FieldError{{Field: "labels", Message: fmt.Sprintf("would be %d; at most %d are kept: these were left out", n, job.MaxLabels)}}
		r.Labels = nil
	}
	return r, dropped
}

// report takes what a handler tells of its job. The lease itself stays as it is:
// the transaction may fail.
func (tx *txn) report(l *lease, r *job.Report) error {
	if r.Empty() {
		return nil
	}
	told := *l
	told.reportedAt = tx.now
	if r.Progress != nil {
		told.progress = &job.Progress{Percent: r.Progress.Percent, Note: job.Cut(r.Progress.Note, job.MaxNote)}
	}
	if err := tx.reportLines(&told, r); err != nil {
		return err
	}
	if len(r.Labels) > 0 {
		row := *l.row
		labels, err := json.Marshal(job.MergeLabels(labelsOf(&row), r.Labels))
		if err != nil {
			return err
		}
		row.Labels = string(labels)
		told.row = &row
		if err := tx.e.store.Labels(row.ID, row.Labels); err != nil {
			return err
		}
	}
	tx.putLease(told.row.ID, &told)
	tx.touched = append(tx.touched, told.row.ID)
	return nil
}

func (tx *txn) reportLines(l *lease, r *job.Report) error {
	if len(r.Log) == 0 {
		return nil
	}
	n := l.lines
	if r.LogFrom > 0 {
		n = r.LogFrom - 1
	}
	lastKept := max(l.lines, n+len(r.Log)) - job.LastLines + 1 // the first one of the last that are kept
	for _, text := range r.Log {
		if n++; n <= l.lines || n > job.FirstLines && n < lastKept {
			continue // it is kept already, or would not be
		}
		line := job.LogLine{Attempt: l.row.Attempt, N: n, At: tx.now, Text: job.Cut(text, job.MaxLogLine)}
		if err := tx.e.store.InsertLine(l.row.ID, line); err != nil {
			return err
		}
	}
	folds := l.lines > job.FirstLines && lastKept > job.FirstLines+1
	l.lines = max(l.lines, n)
	if !folds {
		return nil
	}
	return tx.e.store.FoldLines(l.row.ID, l.row.Attempt, job.FirstLines, lastKept)
}

// LogQuery says which lines of a job's log are asked for.
type LogQuery struct {
	// Attempt is the one whose lines are asked for; 0 means all.
	Attempt int
	// AfterAttempt and After are where the lines begin: behind line After of that
	// attempt.
	AfterAttempt, After int
}

// linesAtOnce bounds a page of a log.
const linesAtOnce = 1000

// Log reads what the handlers of a job wrote.
func (e *Engine) Log(ctx context.Context, id int64, q LogQuery) (job.Log, error) {
	found, err := e.store.Read(ctx, []int64{id})
	if err == nil && len(found) == 0 {
		err = noJob(id)
	}
	if err != nil {
		return job.Log{}, err
	}
	attempt, after := q.AfterAttempt, q.After
	if q.Attempt != 0 {
		if attempt != q.Attempt {
			after = 0
		}
		attempt = q.Attempt
	}
	lines, err := e.store.Log(ctx, id, attempt, after, q.Attempt != 0, linesAtOnce+1)
	more := len(lines) > linesAtOnce
	return job.Log{Lines: append([]job.LogLine{}, lines[:min(len(lines), linesAtOnce)]...), More: more}, err
}
