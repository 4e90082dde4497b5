package engine

import (
	"cmp"
	"fmt"
	"sync/atomic"
	"time"

	"humblemule/internal/core/store"
	"humblemule/job"
)

// canWait refuses jobs of which more would wait in a queue than its rules let wait.
func (tx *txn) canWait(news ...*newJob) error {
	more := map[string]int64{}
	for _, n := range news {
		more[tx.queueFor(n)]++
	}
	for name, n := range more {
		q := tx.queue(name)
		if q == nil {
			continue
		}
		most := tx.rules(q).MaxWaiting
		if most == nil {
			continue
		}
		if waits := tx.waiting(q); waits+n > *most {
			return job.Fault(job.QueueFull, "queue %s has %s waiting, and takes %s at most (max_waiting): %s not taken in; try again when there are fewer", name, job.Grouped(waits), job.Grouped(*most), map[bool]string{true: "the job was", false: "none of the jobs were"}[len(news) == 1])
		}
	}
	return nil
}

// waiting counts the jobs that wait in a queue as the transaction sees them.
func (tx *txn) waiting(q *queue) (n int64) {
	add := func(c *stateCounts) {
		n += c[job.Held] + c[job.Scheduled] + c[job.Ready] + c[job.Backoff]
	}
	for _, c := range q.tasks {
		add(c)
	}
	for g, d := range tx.counts {
		if g.queue == q.id {
			add(d)
		}
	}
	return n
}

// disk is what was last seen of the room beside the data file.
type disk struct {
	lookAt atomic.Int64 // when it is looked at again, in ns
	full   atomic.Pointer[string]
}

const (
	lookAtDiskEvery = time.Second
	minFree         = 256 << 20
	minFreeShare    = 50 // a fiftieth of the disk
)

// hasRoom refuses jobs while less than the least is free beside the data file. What empties
// the file goes on: settles, takes, retention, purges.
func (e *Engine) hasRoom() error {
	now := time.Now().UnixNano()
	if at := e.disk.lookAt.Load(); now >= at && e.disk.lookAt.CompareAndSwap(at, now+int64(lookAtDiskEvery)) {
		e.disk.full.Store(e.lookAtDisk())
	}
	if full := e.disk.full.Load(); full != nil {
		return job.Fault(job.NoSpace, "%s", *full)
	}
	return nil
}

// leastFree is below how many free bytes of a disk of a size nothing is taken in.
func (e *Engine) leastFree(disk int64) int64 {
	return cmp.Or(e.opts.MinFree, min(minFree, disk/minFreeShare))
}

// MinFree is below how many free bytes on its disk the service takes no jobs in; 0 where
// the disk does not tell its size.
func (e *Engine) MinFree() int64 {
	_, disk, err := store.Room(e.store.Path())
	if err != nil {
		return e.opts.MinFree
	}
	return e.leastFree(disk)
}

// lookAtDisk says why nothing more is taken in; nil where there is room, or where the disk
// does not tell.
func (e *Engine) lookAtDisk() *string {
	free, all, err := store.Room(e.store.Path())
	if err != nil {
		return nil
	}
	least := e.leastFree(all)
	if free >= least {
		return nil
	}
	says := fmt.Sprintf("only %d MiB are free beside the data file, and no job is taken in below %d MiB (min_free): free some space, purge a queue, or keep finished jobs for a shorter time; nothing was changed", free>>20, least>>20)
	return &says
}
