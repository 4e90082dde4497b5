package sentence

import (
	"fmt"
	"time"

	"humblemule.example/job"
)

// AheadCounted is where counting the jobs ahead stops.
const AheadCounted = 1000

// Wait is what is known about a job that does not run.
type Wait struct {
	State       job.State
	Now         job.Time
	NextAt      job.Time
	Queue, Task string
	// Tries of MaxAttempts were used; MaxAttempts 0 means no limit.
	Tries, MaxAttempts int
	// Ahead is how many ready jobs of the queue go first, counted to at most
	// AheadCounted+1.
	Ahead int
	// SilentHost is the host that the job calls, where that gives no answer: since when, and when it is tried
	// again.
	SilentHost           string
	SilentSince, ProbeAt job.Time
	// OwnerAhead is, where owners take turns, how many ready jobs of the same owner and
	// task go first; TakesTurns tells that they do.
	OwnerAhead int
	TakesTurns bool
	Owner      string
	// StartsPerMinute is how many jobs of the queue start a minute while jobs wait; 0 where
	// nothing tells.
	StartsPerMinute float64
	// MaxRunning is the bound on running jobs that the queue has reached, and TaskMax that
	// of the task; 0 where there is room.
	MaxRunning, TaskMax int
	// NextStart is when the queue's rate lets a job start; zero where it does now.
	NextStart job.Time
	// Lane is that of a held job, which Holder has, a job in HolderState; LaneAhead jobs
	// wait for it that go first.
	Lane        string
	Holder      int64
	HolderState job.State
	HolderNext  job.Time
	LaneAhead   int
	// Schedule is that of a job which is held until its earlier run, the job Holder, is
	// over.
	Schedule string
	// After is what a job waits for that waits for others; nil where it waits for none.
	After *After
	// PausedBy has paused the queue at PausedAt; zero where nobody has.
	PausedBy string
	PausedAt job.Time
	// QueueServed and TaskDone tell whether a living worker serves the queue,
	// and whether one that serves it does the task.
	QueueServed, TaskDone bool
	// Nearest is a task that is done there and that is perhaps meant.
	Nearest string
}

// WaitingBecause says in one sentence why a job does not run; empty for a job
// that runs or is finished.
func WaitingBecause(w Wait) string {
	switch w.State {
	case job.Scheduled:
		return fmt.Sprintf("It is not due until %s, %s.", w.NextAt, in(w.NextAt.Sub(w.Now)))
	case job.Backoff:
		return fmt.Sprintf("Try %s failed; the next attempt is at %s, %s.", OfMost(w.Tries, w.MaxAttempts), w.NextAt, in(w.NextAt.Sub(w.Now)))
	case job.Held:
		return heldBecause(w)
	case job.Ready:
		return readyBecause(w)
	}
	return ""
}

func readyBecause(w Wait) string {
	switch {
	case w.PausedAt != 0:
		return fmt.Sprintf("Queue %s has been paused by %s since %s. Resume it.", w.Queue, w.PausedBy, w.PausedAt)
	case !w.QueueServed:
		return fmt.Sprintf("No worker serves queue %s. Start one that does.", w.Queue)
	case !w.TaskDone:
		return fmt.Sprintf("No worker of queue %s does %s%s. Start one that has its handler.", w.Queue, w.Task, Perhaps(w.Nearest))
	case w.MaxRunning > 0:
		return fmt.Sprintf("Queue %s has its limit of %d running; it starts when one of them ends%s.", w.Queue, w.MaxRunning, w.behind())
	case w.TaskMax > 0:
		return fmt.Sprintf("Task %s has its limit of %d running, over all queues; it starts when one of them ends%s.", w.Task, w.TaskMax, w.behind())
	case w.NextStart > w.Now:
		return fmt.Sprintf("Queue %s starts the next job by its rate %s%s.", w.Queue, in(w.NextStart.Sub(w.Now)), w.behind())
	case w.TakesTurns && w.OwnerAhead > AheadCounted:
		return fmt.Sprintf("The owners of queue %s take turns; more than %d jobs of %s are ahead of it.", w.Queue, AheadCounted, w.owner())
	case w.TakesTurns && w.OwnerAhead > 0:
		return fmt.Sprintf("The owners of queue %s take turns; of %s, %s ahead of it.", w.Queue, w.owner(), jobsAre(w.OwnerAhead))
	case w.TakesTurns:
		return fmt.Sprintf("It is next of %s in queue %s, where the owners take turns.", w.owner(), w.Queue)
	case w.Ahead > AheadCounted:
		return fmt.Sprintf("More than %d jobs are ahead of it in queue %s%s.", AheadCounted, w.Queue, w.speed(AheadCounted))
	case w.Ahead > 0:
		return fmt.Sprintf("%s ahead of it in queue %s%s.", jobsAre(w.Ahead), w.Queue, w.speed(w.Ahead))
	}
	return fmt.Sprintf("It is next in queue %s and waits for a free slot.", w.Queue)
}

// heldBecause says what a job in a lane waits for.
func heldBecause(w Wait) string {
	if w.After != nil {
		return w.After.because()
	}
	if w.SilentHost != "" {
		return fmt.Sprintf("%s has given no answer since %s; it is tried again at %s. Start the job now to try it at once.", w.SilentHost, w.SilentSince, w.ProbeAt)
	}
	if w.Schedule != "" {
		return fmt.Sprintf("It is the next run of schedule %s; job %d, the run before, is unfinished.", w.Schedule, w.Holder)
	}
	if w.Holder == 0 {
		return "It is held back by other jobs."
	}
	has := fmt.Sprintf("job %d has lane %s and is %s", w.Holder, w.Lane, w.HolderState)
	switch w.HolderState {
	case job.Backoff:
		has += fmt.Sprintf(" until %s", w.HolderNext)
	case job.Dead:
		has += ", which stops the lane; requeue it, discard it, or let the lane pass"
	}
	if w.LaneAhead > 0 {
		has += fmt.Sprintf("; %s before it in the lane", jobsAre(w.LaneAhead))
	}
	return "J" + has[1:] + "."
}

// behind says how many jobs go first; nothing where none does.
func (w *Wait) behind() string {
	switch {
	case w.Ahead > AheadCounted:
		return fmt.Sprintf("; more than %d jobs are ahead of it", AheadCounted)
	case w.Ahead > 0:
		return "; " + jobsAre(w.Ahead) + " ahead of it"
	}
	return ""
}

// speed says how long n jobs take as fast as they were started lately.
func (w *Wait) speed(n int) string {
	if w.StartsPerMinute < 0.1 {
		return ""
	}
	return fmt.Sprintf(", about %s at its present speed", Roughly(time.Duration(float64(n)/w.StartsPerMinute*float64(time.Minute))))
}

func (w *Wait) owner() string {
	if w.Owner == "" {
		return "those without an owner"
	}
	return w.Owner
}

func jobsAre(n int) string {
	if n == 1 {
		return "1 job is"
	}
	return fmt.Sprintf("%d jobs are", n)
}
