package engine

import (
	"fmt"
	"maps"

	"humblemule/internal/core/store"
	"humblemule/job"
)

// removal is an operation whose removals can be undone: its jobs are swept when the time
// after its last removal is over, however long it took.
type removal struct {
	// last is how long the file was served at the last removal.
	last     int64
	underWay bool
}

func (e *Engine) recoverRemovals() error {
	all, err := e.store.Removals()
	if err != nil {
		return err
	}
	e.removals = map[int64]removal{}
	for _, row := range all {
		o, last, err := readOperation(&row)
		if err != nil {
			return fmt.Errorf("operation %d: %w", row.ID, err)
		}
		e.removals[row.Action] = removal{last: last, underWay: !o.Over()}
	}
	return nil
}

func (tx *txn) removal(action int64) (r removal, known bool) {
	if r, known = tx.removals[action]; known {
		return r, r != removal{}
	}
	r, known = tx.e.removals[action]
	return r, known
}

func (tx *txn) setRemoval(action int64, r removal) {
	if tx.removals == nil {
		tx.removals = map[int64]removal{}
	}
	tx.removals[action] = r
	tx.staleSweep = true
}

// removalsNow are the removals as the transaction sees them.
func (tx *txn) removalsNow() map[int64]removal {
	if len(tx.removals) == 0 {
		return tx.e.removals
	}
	all := maps.Clone(tx.e.removals)
	for action, r := range tx.removals {
		if all[action] = r; r == (removal{}) {
			delete(all, action)
		}
	}
	return all
}

// sweepableOf reads jobs of an operation whose removals can no longer be undone.
func (tx *txn) sweepableOf(most int) ([]*store.Row, error) {
	for action, r := range tx.removalsNow() {
		if r.underWay || tx.e.served() < r.last+restorableFor.Milliseconds() {
			continue
		}
		rows, err := tx.e.store.RemovedBy(action, most)
		if err != nil || len(rows) > 0 {
			return rows, err
		}
		tx.setRemoval(action, removal{})
	}
	return nil, nil
}

func (tx *txn) publishRemovals() {
	for action, r := range tx.removals {
		if tx.e.removals[action] = r; r == (removal{}) {
			delete(tx.e.removals, action)
		}
	}
}

// became is a state in which jobs are that an operation has requeued.
type became struct {
	operation int64
	state     job.State
}

// countBecame counts what becomes of a job that an operation has requeued.
func (tx *txn) countBecame(r *store.Row, to job.State, by job.By) {
	if tx.became == nil {
		tx.became = map[became]int64{}
	}
	if by != job.ByRequeue {
		tx.became[became{r.Operation, r.State}]--
	}
	tx.became[became{r.Operation, to}]++
}

func (tx *txn) flushBecame() error {
	for b, n := range tx.became {
		if n == 0 {
			continue
		}
		if err := tx.e.store.CountBecame(b.operation, b.state, n); err != nil {
			return err
		}
	}
	return nil
}
