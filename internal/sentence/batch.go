package sentence

import (
	"fmt"
	"strings"
	"time"

	"humblemule.example/job"
)

// Batch is what is told of a batch.
type Batch struct {
	// Counts are its jobs by state, Jobs how many there are, and TooLate how many of the skipped ones
	// came too late.
	Counts        map[job.State]int64
	Jobs, TooLate int64
	Open          bool
	// Took is how long it took, where it has ended.
	Took  time.Duration
	Ended bool
	// Stuck tells that nothing goes on until somebody acts, and Blocking the first jobs that the others
	// wait for in vain.
	Stuck    bool
	Blocking []job.Edge
}

// OfBatch tells in a sentence how a batch stands, and what it waits for.
func OfBatch(b Batch) string {
	switch {
	case b.Jobs == 0 && b.Open:
		return "It has no job yet; it is open, so that jobs can be added."
	case b.Jobs == 0:
		return "It has no job."
	case b.Ended:
		return b.ended()
	case b.Stuck:
		return b.stuck()
	}
	n := b.Counts
	finished := n[job.Done] + n[job.Skipped] + n[job.Cancelled] + n[job.Dead]
	if finished == b.Jobs {
		return fmt.Sprintf("%s; it is open, so that more can be added.", upper(Count(finished, "job has ended", "jobs have ended")))
	}
	says := fmt.Sprintf("%s of %s ended", Grouped(finished), Count(b.Jobs, "job has", "jobs have"))
	var rest []string
	for _, part := range []struct {
		n         int64
		one, many string
	}{
		{n[job.Running], "runs", "run"}, {n[job.Ready], "is ready", "are ready"}, {n[job.Backoff], "waits for its next attempt", "wait for their next attempt"},
		{n[job.Scheduled], "waits for its time", "wait for their time"}, {n[job.Held], "waits for others", "wait for others"}, {n[job.Dead], "is dead", "are dead"},
	} {
		if part.n > 0 {
			rest = append(rest, Count(part.n, part.one, part.many))
		}
	}
	says += "; " + List(rest)
	if b.Open {
		says += "; it is open, so that more can be added"
	}
	return says + "."
}

// ended tells how a batch has ended.
func (b *Batch) ended() string {
	took := fmt.Sprintf("It took %s.", Roughly(b.Took))
	if b.Took < time.Second {
		took = "It took less than a second."
	}
	n := b.Counts
	if n[job.Done] == b.Jobs {
		return fmt.Sprintf("%s done. %s", upper(Count(b.Jobs, "job was", "jobs were")), took)
	}
	var parts []string
	for _, part := range []struct {
		n    int64
		says string
	}{
		{n[job.Done], "done"}, {n[job.Skipped] - b.TooLate, "skipped by their handlers"}, {b.TooLate, "too late to start"}, {n[job.Cancelled], "cancelled"}, {n[job.Dead], "dead"},
	} {
		if part.n > 0 {
			parts = append(parts, Grouped(part.n)+" "+part.says)
		}
	}
	return fmt.Sprintf("All %s ended: %s. %s", Count(b.Jobs, "job has", "jobs have"), List(parts), took)
}

// stuck tells what a batch waits for in vain.
func (b *Batch) stuck() string {
	waiting := upper(Count(b.Counts[job.Held], "job waits", "jobs wait"))
	if len(b.Blocking) == 0 {
		return waiting + " for others that will not go on by themselves; let them go on without those, or cancel them."
	}
	const told = 3
	var parts []string
	for _, e := range b.Blocking[:min(len(b.Blocking), told)] {
		parts = append(parts, fmt.Sprintf("job %d (%s, %s)", e.Job, e.Task, e.State))
	}
	if len(b.Blocking) > told {
		parts = append(parts, "others")
	}
	return fmt.Sprintf("%s in vain for %s: requeue %s, or let the waiting jobs go on without %s.", waiting, List(parts), pronoun(len(b.Blocking)), pronoun(len(b.Blocking)))
}

func pronoun(n int) string {
	if n == 1 {
		return "it"
	}
	return "them"
}

// upper begins a sentence.
func upper(s string) string { return strings.ToUpper(s[:1]) + s[1:] }
