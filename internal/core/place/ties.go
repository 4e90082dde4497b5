package place

import (
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/lifecycle"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// tied notes what it means to other jobs, and to its batch, that a job goes to a state.
func tied(tx *commit.Tx, r *store.Row, to job.State) error {
	if r.Batch != 0 {
		tx.Ties.Moved(r, to)
	}
	if to.Finished() && r.Awaited&store.AwaitedByJobs != 0 {
		tx.Ties.End(r.ID, lifecycle.HowEnded(to, job.Reason(r.Reason)))
	}
	switch {
	case r.After == 0 || r.State == job.Unplaced || to.Finished() == r.State.Finished():
		return nil
	case to.Finished():
		return tx.Store.EdgesOver(r.ID)
	}
	return tx.Store.EdgesOpen(r.ID)
}
