package job

import (
	"fmt"
	"time"
)

// AheadCounted is where counting the jobs ahead stops.
const AheadCounted = 1000

// Wait is what is known about a job that does not run.
type Wait struct {
	State       State
	Now         Time
	NextAt      Time
	Queue, Task string
	// Tries of MaxAttempts were used; MaxAttempts 0 means no limit.
	Tries, MaxAttempts int
	// Ahead is how many ready jobs of the queue go first, counted to at most
	// AheadCounted+1.
	Ahead int
	// PausedBy has paused the queue at PausedAt; zero where nobody has.
	PausedBy string
	PausedAt Time
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
	case Scheduled:
		return fmt.Sprintf("It is not due until %s, %s.", w.NextAt, in(w.NextAt.Sub(w.Now)))
	case Backoff:
		return fmt.Sprintf("Try %s failed; the next attempt is at %s, %s.", OfMost(w.Tries, w.MaxAttempts), w.NextAt, in(w.NextAt.Sub(w.Now)))
	case Held:
		return "It is held back by other jobs."
	case Ready:
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
	case w.Ahead > AheadCounted:
		return fmt.Sprintf("More than %d jobs are ahead of it in queue %s.", AheadCounted, w.Queue)
	case w.Ahead == 1:
		return fmt.Sprintf("1 job is ahead of it in queue %s.", w.Queue)
	case w.Ahead > 1:
		return fmt.Sprintf("%d jobs are ahead of it in queue %s.", w.Ahead, w.Queue)
	}
	return fmt.Sprintf("It is next in queue %s and waits for a free slot.", w.Queue)
}

// Perhaps offers a nearest name, in the middle of a sentence.
func Perhaps(nearest string) string {
	if nearest == "" {
		return ""
	}
	return " (the nearest is " + nearest + ")"
}

// OfMost writes "3 of 17", or "3, without limit" where most is 0.
func OfMost(n, most int) string {
	if most == 0 {
		return fmt.Sprintf("%d, without limit,", n)
	}
	return fmt.Sprintf("%d of %d", n, most)
}

func in(d time.Duration) string {
	if d <= 0 {
		return "now"
	}
	return "in " + Roughly(d)
}

// Roughly writes a span with its one or two largest units, as people say it.
func Roughly(d time.Duration) string {
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < 10*time.Second:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < 2*time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	case d < 2*time.Hour:
		return fmt.Sprintf("%.0f min", d.Minutes())
	case d < 2*day:
		return fmt.Sprintf("%.0f h", d.Hours())
	default:
		return fmt.Sprintf("%.0f days", d.Hours()/24)
	}
}

// Grouped writes a number in groups of three digits, set apart by a narrow
// space, as 12 345.
func Grouped(n int64) string {
	digits := fmt.Sprint(n)
	for i := len(digits) - 3; i > 0 && digits[i-1] != '-'; i -= 3 {
		digits = digits[:i] + "\u202f" + digits[i:]
	}
	return digits
}
