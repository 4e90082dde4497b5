package upkeep

import (
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/lifecycle"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/place"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// due moves jobs whose time has come to where they belong.
func due(tx *commit.Tx) error {
	if tx.Times.Due.Get() == 0 || tx.Times.Due.Get() > tx.Now {
		return nil
	}
	const most = 200
	rows, err := tx.Store.Due(tx.Now, most+tx.Room(commit.ThingDue))
	if err != nil {
		return err
	}
	tx.Times.Due.Reread()
	for _, r := range rows {
		if tx.Passes(commit.ThingDue, r.ID) {
			continue
		}
		if err := place.Put(tx, r, lifecycle.ByDue); err != nil {
			return err
		}
		if err := tx.Store.Wait(r); err != nil {
			return err
		}
	}
	return nil
}

// late skips jobs that have not been started in time.
func late(tx *commit.Tx) error {
	if tx.Times.Late.Get() == 0 || tx.Times.Late.Get() > tx.Now {
		return nil
	}
	const most = 200
	rows, err := tx.Store.TooLate(tx.Now, most+tx.Room(commit.ThingLate))
	if err != nil {
		return err
	}
	tx.Times.Late.Reread()
	for _, r := range rows {
		if tx.Passes(commit.ThingLate, r.ID) {
			continue
		}
		if err := place.SkipLate(tx, r); err != nil {
			return err
		}
	}
	return nil
}

// dropResults removes results that are no longer kept.
func dropResults(tx *commit.Tx) error {
	if tx.Times.Results.Get() == 0 || tx.Times.Results.Get() > tx.Now {
		return nil
	}
	const most = 200
	over, err := tx.Store.ResultsOver(tx.Now, most+tx.Room(commit.ThingResult))
	if err != nil {
		return err
	}
	tx.Times.Results.Reread()
	for _, id := range over {
		if tx.Passes(commit.ThingResult, id) {
			continue
		}
		if kept, err := keepsResult(tx, id); kept || err != nil {
			if err != nil {
				return err
			}
			continue
		}
		if err := tx.Store.DropResult(id); err != nil {
			return err
		}
		tx.News.Touched = append(tx.News.Touched, id)
	}
	return nil
}

// keepsResult keeps a result for longer whose job others wait for.
func keepsResult(tx *commit.Tx, id int64) (bool, error) {
	r, err := tx.Store.Row(id)
	if err != nil || r == nil || r.Awaited == 0 {
		return false, err
	}
	awaited, err := isAwaited(tx, r)
	if err != nil || !awaited {
		return false, err
	}
	until := tx.Now.Add(awaitedEvery)
	tx.Times.Results.By(until)
	return true, tx.Store.KeepResult(id, until)
}

// sweep deletes what can no longer be restored; it is counted on, what never finished as
// cancelled.
func sweep(tx *commit.Tx) error {
	if tx.Times.Sweep.Get() == 0 || tx.Times.Sweep.Get() > tx.Served() {
		return nil
	}
	const most = 200
	old, err := tx.Store.Sweepable(tx.Served()-memory.RestorableFor.Milliseconds(), most+tx.Room(commit.ThingSweep))
	if err == nil && len(old) == 0 {
		old, err = sweepableOf(tx, most+tx.Room(commit.ThingSweep))
	}
	if err != nil {
		return err
	}
	tx.Times.Sweep.Reread()
	tx.Times.Results.RereadAny()
	var gone going
	for _, r := range old {
		if tx.Passes(commit.ThingSweep, r.ID) {
			continue
		}
		g := store.Group{Queue: r.Queue, Task: r.Task, State: r.State}
		if !r.State.Finished() {
			g.State = job.Cancelled
			tx.History.Purged(r)
		}
		tx.Counts.Retire(g, 1)
		swept(tx, r)
		if err := gone.sweep(tx, r.ID); err != nil {
			return err
		}
	}
	return gone.sweepAll(tx)
}

// sweepableOf reads jobs of an operation whose removals can no longer be undone.
func sweepableOf(tx *commit.Tx, most int) ([]*store.Row, error) {
	for action, r := range tx.Removals.All() {
		if r.UnderWay || tx.Served() < r.Last+memory.RestorableFor.Milliseconds() {
			continue
		}
		rows, err := tx.Store.RemovedBy(action, most)
		if err != nil || len(rows) > 0 {
			return rows, err
		}
		tx.Removals.End(action)
	}
	return nil, nil
}
