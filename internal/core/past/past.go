// Package past writes a past into a new data file: what moved over days that were never served,
// as the demo opens with. It goes through the same memory as the service, which folds the
// minutes, so that every count of the file agrees.
package past

import (
	"errors"
	"maps"
	"slices"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/core/trend"
	"humblemule.example/internal/core/triage"
	"humblemule.example/job"
)

// Writer writes a past, moment after moment.
type Writer struct {
	s    *store.Store
	m    *memory.Memory
	at   time.Time
	jobs int64
	// seen are the causes of failures, and causes those of each.
	seen   map[int64]*store.Seen
	causes map[job.Failure]triage.Cause
	n      int
}

// Write makes a data file, and has a past written into it.
func Write(path string, write func(*Writer) error) (err error) {
	s, err := store.Open(path)
	if err != nil {
		return err
	}
	w := &Writer{s: s, seen: map[int64]*store.Seen{}, causes: map[job.Failure]triage.Cause{}}
	w.m = memory.New(s, &memory.Clock{Wall: func() time.Time { return w.at }, Opened: time.Now()})
	defer func() { err = errors.Join(err, s.Close()) }()
	if err := w.m.Load(); err != nil {
		return err
	}
	w.m.Begin(0)
	if err := write(w); err != nil {
		return err
	}
	if err := w.keep(); err != nil {
		return err
	}
	w.m.Begin(job.At(w.at))
	if err := w.m.History.Forget(1000); err != nil {
		return err
	}
	if err := w.writeCauses(); err != nil {
		return err
	}
	w.m.Facts.NextJob.Set(w.jobs + 1)
	return w.keep()
}

// At goes on to a moment.
func (w *Writer) At(at time.Time) error {
	const together = 200 // moments a commit
	if w.n++; w.n%together == 0 {
		if err := w.keep(); err != nil {
			return err
		}
	} else if err := w.m.Flush(); err != nil {
		return err
	} else {
		w.m.Publish()
	}
	w.at = at
	w.m.Begin(job.At(at))
	return nil
}

func (w *Writer) keep() error {
	if err := w.m.Flush(); err != nil {
		return err
	}
	if w.s.Writing() {
		if err := w.s.Commit(); err != nil {
			return err
		}
	}
	w.m.Publish()
	return nil
}

// Worker notes that a worker came, which may be a deployment.
func (w *Writer) Worker(is api.Worker) (number int64, err error) {
	ref, err := w.m.Workers.Write(is)
	return ref.Number, err
}

// Came notes that jobs came, and Ran what became of them in a worker. Those that finished are
// counted as removed for good, as jobs are that were kept long enough.
func (w *Writer) Came(queue, task string, f *trend.Figures) error {
	q, t, err := w.names(queue, task)
	if err != nil {
		return err
	}
	w.jobs += f.N[trend.Enqueued]
	w.m.History.Add(q, t, 0, f)
	return nil
}

// Ran goes with [Writer.Came].
func (w *Writer) Ran(queue, task string, worker int64, f *trend.Figures) error {
	q, t, err := w.names(queue, task)
	if err != nil {
		return err
	}
	w.m.History.Add(q, t, worker, f)
	for state, c := range map[job.State]trend.Count{job.Done: trend.Done, job.Dead: trend.Dead, job.Skipped: trend.Skipped, job.Cancelled: trend.Cancelled} {
		if n := f.N[c]; n > 0 {
			w.m.Counts.Retire(store.Group{Queue: q, Task: t, State: state}, n)
		}
	}
	return nil
}

// Requeued notes that dead jobs got another round.
func (w *Writer) Requeued(queue, task string, n int64) error {
	q, t, err := w.names(queue, task)
	if err != nil {
		return err
	}
	w.m.History.Add(q, t, 0, &trend.Figures{N: [trend.NumCounts]int64{trend.Requeued: n}})
	w.m.Counts.Retire(store.Group{Queue: q, Task: t, State: job.Dead}, -n)
	return nil
}

// Failed notes of attempts that [Writer.Ran] has told how they failed, and of how many the jobs
// died.
func (w *Writer) Failed(queue, task string, worker int64, is job.Failure, failed, dead int64) error {
	q, t, err := w.names(queue, task)
	if err != nil || failed == 0 {
		return err
	}
	cause, known := w.causes[is]
	if !known {
		cause = triage.Of(is.Type, is.Message)
		w.causes[is] = cause
	}
	w.m.History.AddFailures(q, t, worker, cause.ID, trend.Deaths{Failed: failed, Dead: dead})
	seen := w.seen[cause.ID]
	if seen == nil {
		seen = &store.Seen{ID: cause.ID, Type: cause.Type, Template: cause.Template, First: job.At(w.at), At: job.At(w.at)}
		w.seen[cause.ID] = seen
		if err := w.s.SawCause(*seen, seen.At); err != nil { // when it was first seen
			return err
		}
	}
	seen.N, seen.Job, seen.At = seen.N+failed, w.jobs, job.At(w.at)
	return nil
}

// writeCauses writes what failures had in common.
func (w *Writer) writeCauses() (err error) {
	for _, id := range slices.Sorted(maps.Keys(w.seen)) {
		err = errors.Join(err, w.s.SawCause(*w.seen[id], w.seen[id].At))
	}
	return err
}

// Did notes what an operator did.
func (w *Writer) Did(who, action, detail string) error {
	_, err := w.s.InsertAction(job.At(w.at), who, action, 0, detail)
	return err
}

func (w *Writer) names(queue, task string) (q, t int64, err error) {
	namedQueue, err := w.m.Queues.Use(queue, "local")
	if err != nil {
		return 0, 0, err
	}
	namedTask, err := w.m.Tasks.Use(task, "local")
	if err != nil {
		return 0, 0, err
	}
	return namedQueue.ID, namedTask.ID, nil
}
