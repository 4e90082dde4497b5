package command

import (
	"cmp"
	"fmt"
	"sync/atomic"
	"time"

	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

// canWait refuses jobs of which more would wait in a queue than its rules let wait.
func canWait(v *commit.View, news ...*NewJob) error {
	more := map[*memory.Named]int64{}
	for _, n := range news {
		if q := v.Queues.Find(queueFor(v, n)); q != nil && v.Settings.Rules(q).MaxWaiting != nil {
			more[q]++
		}
	}
	for q, n := range more {
		most := v.Settings.Rules(q).MaxWaiting
		if waits := v.Counts.Queue(q.ID).Waiting(); waits+n > *most {
			return job.Fault(job.QueueFull, "queue %s has %s waiting and accepts at most %s (max_waiting): %s not enqueued; try again when fewer are waiting", q.Name, sentence.Grouped(waits), sentence.Grouped(*most), map[bool]string{true: "the job was", false: "none of the jobs were"}[len(news) == 1])
		}
	}
	return nil
}

// CanReceive refuses the job of a webhook that cannot be taken in now. More of them may wait in a queue
// than its rules let wait: whoever has sent one may not send it again.
func (dk *Desk) CanReceive(v *commit.View, n *NewJob) error {
	if err := dk.hasRoom(); err != nil {
		return err
	}
	return canName(v, n)
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
func (dk *Desk) hasRoom() error {
	if full := dk.DiskFull(); full != "" {
		return job.Fault(job.NoSpace, "%s; nothing was changed", full)
	}
	return nil
}

// DiskFull says why no job is taken in while too little is free beside the data file; empty
// while enough is.
func (dk *Desk) DiskFull() string {
	now := time.Now().UnixNano()
	if at := dk.disk.lookAt.Load(); now >= at && dk.disk.lookAt.CompareAndSwap(at, now+int64(lookAtDiskEvery)) {
		dk.disk.full.Store(dk.lookAtDisk())
	}
	if full := dk.disk.full.Load(); full != nil {
		return *full
	}
	return ""
}

// leastFree is below how many free bytes of a disk of a size nothing is taken in.
func (dk *Desk) leastFree(disk int64) int64 {
	return cmp.Or(dk.c.MinFree, min(minFree, disk/minFreeShare))
}

// MinFree is below how many free bytes on its disk the service takes no jobs in; 0 where
// the disk does not tell its size.
func (dk *Desk) MinFree() int64 {
	_, disk, err := store.Room(dk.c.Store.Path())
	if err != nil {
		return dk.c.MinFree
	}
	return dk.leastFree(disk)
}

// lookAtDisk says why nothing more is taken in; nil where there is room, or where the disk
// does not tell.
func (dk *Desk) lookAtDisk() *string {
	free, all, err := store.Room(dk.c.Store.Path())
	if err != nil {
		return nil
	}
	least := dk.leastFree(all)
	if free >= least {
		return nil
	}
	says := fmt.Sprintf("only %d MiB are free on the disk of the data file, and no job is accepted below %d MiB (min_free): free some space, purge a queue, or keep finished jobs for a shorter time", free>>20, least>>20)
	return &says
}
