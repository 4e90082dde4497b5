package store

import (
	"errors"

	"humblemule/job"
)

// OldWorker is the row of a worker that was not seen for long.
type OldWorker struct {
	Number int64
	UID    string
}

// WorkersBefore reads workers that were last seen before a time, the longest away first.
func (s *Store) WorkersBefore(at job.Time, limit int) (all []OldWorker, err error) {
	found, err := s.st.workersBefore.QueryContext(background, int64(at), limit)
	if err != nil {
		return nil, err
	}
	defer found.Close()
	for found.Next() {
		var w OldWorker
		if err := found.Scan(&w.Number, &w.UID); err != nil {
			return nil, err
		}
		all = append(all, w)
	}
	return all, found.Err()
}

// SawWorker writes when a worker was last seen.
func (s *Store) SawWorker(number int64, at job.Time) error {
	return s.exec(s.st.sawWorker, int64(at), number)
}

// DropWorker removes who a worker was. Attempts that it made no longer tell its name.
func (s *Store) DropWorker(number int64) error { return s.exec(s.st.dropWorker, number) }

// DropActions removes actions, and the operations that belong to them, that were made
// before a time, and tells how many of the first it found.
func (s *Store) DropActions(before job.Time, limit int) (n int, err error) {
	found, err := s.st.oldActions.QueryContext(background, limit)
	if err != nil {
		return 0, err
	}
	defer found.Close()
	var last int64
	for found.Next() {
		var id int64
		var at job.Time
		if err := found.Scan(&id, &at); err != nil {
			return 0, err
		}
		if at >= before {
			break
		}
		last = id
		n++
	}
	if err := errors.Join(found.Err(), found.Close()); err != nil || n == 0 {
		return 0, err
	}
	return n, errors.Join(s.exec(s.st.dropOperations, last), s.exec(s.st.dropActions, last))
}

// LastPolicy is the highest number of a policy; 0 where there is none.
func (s *Store) LastPolicy() (int64, error) { return s.number(s.st.lastPolicy) }

// PoliciesOf reads the policies of the next jobs after one, removed ones too, and the last
// of those jobs; 0 where there are none.
func (s *Store) PoliciesOf(after int64, limit int) (used []int64, last int64, err error) {
	found, err := s.st.policiesOf.QueryContext(background, after, limit)
	if err != nil {
		return nil, 0, err
	}
	defer found.Close()
	for found.Next() {
		var policy int64
		if err := found.Scan(&policy, &last); err != nil {
			return nil, 0, err
		}
		used = append(used, policy)
	}
	return used, last, found.Err()
}

// PolicyIDs reads the numbers of all policies up to one.
func (s *Store) PolicyIDs(upTo int64) ([]int64, error) {
	return ids(s.st.policyIDs.QueryContext(background, upTo))
}

// DropPolicy removes a policy that no job has.
func (s *Store) DropPolicy(id int64) error { return s.exec(s.st.dropPolicy, id) }

// PutIdleQueue and PutIdleTask write since when a name has had no use; 0 where it has.
func (s *Store) PutIdleQueue(id int64, since job.Time) error {
	return s.exec(s.st.idleQueue, int64(since), id)
}

// PutIdleTask is told with [Store.PutIdleQueue].
func (s *Store) PutIdleTask(id int64, since job.Time) error {
	return s.exec(s.st.idleTask, int64(since), id)
}

// HasRemoved tells whether a queue or a task, 0 for none, has jobs that were removed and
// can still be brought back.
func (s *Store) HasRemoved(queue, task int64) (has bool, err error) {
	stmt, id := s.st.removedOfQueue, queue
	if queue == 0 {
		stmt, id = s.st.removedOfTask, task
	}
	found, err := s.number(stmt, id)
	return found != 0, err
}

// PastOfTask reads how many jobs of a task are gone, by queue and state.
func (s *Store) PastOfTask(task int64) (all []Count, err error) {
	past, err := s.PastCounts()
	for _, c := range past {
		if c.Task == task {
			all = append(all, c)
		}
	}
	return all, err
}

// DropQueue removes a queue without jobs, with what is counted of those it had.
func (s *Store) DropQueue(id int64) error {
	return errors.Join(s.exec(s.st.dropQueue, id), s.exec(s.st.dropQueueCounts, id), s.exec(s.st.dropQueuePast, id), s.exec(s.st.dropQueueTurns, id))
}

// DropTask removes a task without jobs, with what is counted of those it had in queues.
func (s *Store) DropTask(id int64, queues []int64) error {
	err := errors.Join(s.exec(s.st.dropTask, id), s.exec(s.st.dropTaskKeys, id))
	for _, q := range queues {
		err = errors.Join(err, s.exec(s.st.dropTaskCounts, q, id), s.exec(s.st.dropTaskPast, q, id), s.exec(s.st.dropTaskTurns, q, id))
	}
	return err
}
