package sentence

import (
	"fmt"

	"humblemule.example/job"
)

// After is what a job waits for that waits for others.
type After struct {
	// First are the first that it waits for, and Total how many there are.
	First []job.Edge
	Total int64
	// When and IfNot are as in its spec.
	When  job.AfterWhen
	IfNot job.AfterIfNot
	// Batch is the name or number of the batch whose last job it is; empty where it is none.
	Batch string
}

// because says what the job waits for, and what would become of it.
func (a *After) because() string {
	if a.Batch != "" {
		return fmt.Sprintf("It is the last job of %s and waits until all others %s.", a.Batch, a.ended(2))
	}
	const told = 3
	var names []string
	var broken *job.Edge
	for i, e := range a.First {
		if broken == nil && a.misses(e) {
			broken = &a.First[i]
		}
	}
	for _, e := range a.First[:min(len(a.First), told)] {
		name := fmt.Sprintf("job %d", e.Job)
		switch {
		case e.Job == 0:
			name = "a job that was not imported"
		case e.State == job.Unplaced:
			name += " (no longer kept)"
		case e.Task != "":
			name += fmt.Sprintf(" (%s, %s)", e.Task, e.State)
		}
		names = append(names, name)
	}
	if more := a.Total - int64(len(names)); more > 0 {
		names = append(names, Grouped(more)+" more")
	}
	says := fmt.Sprintf("It waits until %s %s", List(names), a.ended(a.Total))
	switch {
	case broken == nil:
		return says + a.fate()
	case broken.Job == 0:
		return says + "; start this one now to let it go on without it, or cancel it."
	case broken.State == job.Unplaced:
		return says + fmt.Sprintf("; job %d will not be: start this one now to let it go on without it, or cancel it.", broken.Job)
	}
	return says + fmt.Sprintf("; job %d is %s, so it waits until somebody acts: requeue job %d, or start this one now to let it go on without it.", broken.Job, broken.State, broken.Job)
}

// ended says how n jobs are to end.
func (a *After) ended(n int64) string {
	if a.When == job.WhenFinished {
		return Plural(n, "has", "have") + " ended"
	}
	return Plural(n, "is", "are") + " done"
}

// fate says what becomes of the job where one of them ends otherwise.
func (a *After) fate() string {
	switch {
	case a.When == job.WhenFinished:
		return ", in whatever way."
	case a.IfNot == job.IfNotCancel:
		return "; should one end otherwise, it is cancelled."
	}
	return "; should one end otherwise, it waits until somebody acts."
}

// misses tells whether a job that is waited for will not end as asked unless somebody acts.
func (a *After) misses(e job.Edge) bool {
	return e.State == job.Unplaced || e.State.Finished()
}
