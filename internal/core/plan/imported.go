package plan

import (
	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// ImportRun adds the run of an imported job to the history of its schedule, whose runs are numbered
// on from there. Behind is the job that it waits for; 0 for none.
func ImportRun(tx *commit.Tx, r *store.Row, run *job.ScheduledBy, behind int64) error {
	s := tx.Schedules.Get(r.Schedule)
	there, err := tx.Store.HasRun(s.Row.ID, run.PlannedAt)
	if err != nil || there || run.PlannedAt <= 0 {
		return err
	}
	if err := tx.Store.AddRun(s.Row.ID, &api.Run{PlannedAt: run.PlannedAt, Number: run.Run, Job: r.ID, EnqueuedAt: r.EnqueuedAt}); err != nil {
		return err
	}
	if r.State.Finished() {
		if err := tx.Store.EndRun(r); err != nil {
			return err
		}
	}
	next := s.Copy()
	if behind != 0 && r.State == job.Held && s.Row.Waiting == 0 {
		next.Row.Waiting, next.Row.Behind = r.ID, behind
	}
	if run.Run > s.Row.Runs {
		next.Row.Runs, next.Row.Last = run.Run, r.ID
	}
	return tx.Schedules.Put(next)
}
