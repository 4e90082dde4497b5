package api

import (
	"fmt"
	"slices"

	"humblemule.example/internal/check"
	"humblemule.example/job"
)

// ExportFormat is the version of the lines of an export. It rises when an older service could not
// read them whole.
const ExportFormat = 1

// ExportLine is a line of an export, which has JSON a line (RFC 8259; NDJSON): the head, then the
// set-up, then jobs by their ids, each followed by the lines of its log, then the end. A line says
// one of these. An export without its end was cut off.
type ExportLine struct {
	Export *ExportHead `json:"export,omitzero"`
	// Setup are the settings of queues and tasks, and the schedules; Paused are the queues that are
	// paused.
	Setup  *Setup   `json:"setup,omitzero"`
	Paused []string `json:"paused,omitzero"`
	// Job is a job with its attempts and its result, and Rank its place among those of its queue,
	// where it has one.
	// HasLane says that the job has its lane, whatever its state.
	Job     *job.Job `json:"job,omitzero"`
	Rank    int64    `json:"rank,omitzero"`
	HasLane bool     `json:"has_lane,omitzero"`
	// Behind is the job whose end the next run of its schedule waits for.
	Behind int64 `json:"behind,omitzero"`
	// After are the jobs that an unfinished one still waits for.
	After *job.After `json:"after,omitzero"`
	// Log are lines of the log of the job before.
	Log *ExportLog `json:"log,omitzero"`
	End *ExportEnd `json:"end,omitzero"`
}

// ExportHead says what an export is of.
type ExportHead struct {
	Format int `json:"format"`
	// Store is the id of the store, and Version that of its service.
	Store   string   `json:"store"`
	Version string   `json:"version"`
	At      job.Time `json:"at"`
	// Filter says which jobs are meant, as the query of a list does; empty for all. Through is the
	// highest id that was given out when the export began, and the highest that it has.
	Filter  string `json:"filter,omitzero"`
	Through int64  `json:"through"`
}

// ExportLog are lines of a job's log.
type ExportLog struct {
	Job   int64     `json:"job"`
	Lines []LogLine `json:"lines"`
}

// ExportEnd says that an export is whole: how many jobs there were beyond the id After, from which
// it was continued; 0 for all.
type ExportEnd struct {
	Jobs  int64 `json:"jobs"`
	After int64 `json:"after,omitzero"`
}

// What becomes of the ids of imported jobs.
const (
	// IDsNew gives each a new one.
	IDsNew = "new"
	// IDsKeep leaves each its own, in a service that has had no job before.
	IDsKeep = "keep"
)

// ImportRequest begins the import of an export, or goes on with it.
type ImportRequest struct {
	Export ExportHead `json:"export"`
	// IDs is new or keep; empty means as the import was begun, or new.
	IDs string `json:"ids,omitzero"`
	// DryRun checks, and changes nothing.
	DryRun bool `json:"dry_run,omitzero"`
}

// Check answers what is wrong with it.
func (r *ImportRequest) Check() []job.FieldError {
	var c check.List
	h := &r.Export
	if h.Format < 1 {
		c.Add("export.format", "is missing; the first line of an export says it")
	} else if h.Format > ExportFormat {
		c.Add("export.format", "is %d, and this service reads up to %d; import it with a newer one", h.Format, ExportFormat)
	}
	if h.Store == "" || len(h.Store) > longestStore {
		c.Add("export.store", "is not the id of a store; the first line of an export says it")
	}
	if h.Through < 0 || h.Through > mostID-IDsApart {
		c.Add("export.through", "%d is outside 0 to 2^53-2^32", h.Through)
	}
	c.OneOf("ids", r.IDs, IDsNew, IDsKeep)
	return c
}

// IDsApart is by how much the ids of new jobs go on above those of a store whose ids are kept: it may
// go on to give some.
const IDsApart = 1 << 32

const (
	longestStore = 64
	mostID       = 1<<53 - 1
)

// Import is another store, of which jobs were imported.
type Import struct {
	Store string `json:"store"`
	// IDs is new or keep.
	IDs     string   `json:"ids"`
	BegunAt job.Time `json:"begun_at"`
	BegunBy string   `json:"begun_by"`
	// Jobs is how many jobs were imported so far.
	Jobs int64 `json:"jobs"`
}

// Imports are the stores of which jobs were imported.
type Imports struct {
	Imports []Import `json:"imports"`
}

// Imported tells what became of lines of an export.
type Imported struct {
	// Jobs is how many were imported, and There how many were already.
	Jobs  int64 `json:"jobs"`
	There int64 `json:"there"`
	// IDs say what the ids of both have become.
	IDs []ImportedIDs `json:"ids"`
	// Refused are the lines that are wrong, of which nothing was imported.
	Refused []ImportRefused `json:"refused"`
	// Short is how many of the imported jobs are older than finished jobs are kept here, so that
	// they go soon.
	Short int64 `json:"short,omitzero"`
	// Setup is what became of the set-up.
	Setup *ImportedSetup `json:"setup,omitzero"`
}

// ImportedIDs say that the jobs from First to Last have become Job and those that follow it.
type ImportedIDs struct {
	First int64 `json:"first"`
	Last  int64 `json:"last"`
	Job   int64 `json:"job"`
}

// ImportRefused is a line that is wrong.
type ImportRefused struct {
	// Line is its number among those of the call, from 1 on, and Job the id of its job.
	Line   int              `json:"line"`
	Job    int64            `json:"job,omitzero"`
	Errors []job.FieldError `json:"errors"`
}

// ImportedSetup tells what became of a set-up.
type ImportedSetup struct {
	// Set are what was set, such as queue berths; Differs what is set here in another way, and was
	// left so; Same is how much is set here as there.
	Set     []string `json:"set"`
	Differs []string `json:"differs"`
	Same    int      `json:"same"`
}

// ImportedAs tells which job here one of another store has become.
type ImportedAs struct {
	Job int64 `json:"job"`
}

// What a line may hold at most.
const (
	MaxAttemptsKept = 100
)

// CheckJob answers what is wrong with a line that has a job.
func (l *ExportLine) CheckJob(maxPayload int) []job.FieldError {
	j := l.Job
	spec := j.SpecOf()
	if job.IsOwn(spec.Task) { // a message of the other service
		spec.Task = "message"
	}
	spec.MaxAttempts, spec.Retry, spec.Timeout, spec.KeepResult = &j.MaxAttempts, j.Retry, j.Timeout, j.KeepResult
	if j.Calls != "" && spec.Call == nil {
		return []job.FieldError{{Field: "payload", Message: "is not a call"}}
	}
	c := check.List(spec.Check(maxPayload))
	if l.After != nil {
		l.After.CheckRule(&c, "after")
		l.After.CheckJobs(&c)
	}
	number := func(field string, n, least, most int64) {
		if n < least || n > most {
			c.Add(field, "%d is outside %d to %d", n, least, most)
		}
	}
	number("id", j.ID, 1, mostID)
	number("round", int64(j.Round), 1, 1<<31)
	number("attempt", int64(j.Attempt), 0, 1<<31)
	number("tries", int64(j.Tries), 0, int64(j.Attempt))
	if number("rank", l.Rank, 0, mostID); j.Retry == nil {
		c.Add("retry", "is missing")
	}
	checkTimes(&c, j)
	switch {
	case j.State == job.Unplaced:
		c.Add("state", "is missing")
	case j.State.Finished() != (j.FinishedAt != 0):
		c.Add("finished_at", "does not go with the state, which is %s", j.State)
	case j.State == job.Backoff && j.NextAt == 0:
		c.Add("next_at", "is missing; a job in backoff has one")
	case j.State == job.Running && j.Attempt == 0:
		c.Add("attempt", "is 0; a job that ran has one")
	}
	if j.Reason != "" && !slices.Contains(job.Reasons(), j.Reason) {
		c.Add("reason", "%q is unknown", j.Reason)
	}
	if len(j.Result) > MaxResultBytes {
		c.Add("result", "is %d bytes; at most %d are kept", len(j.Result), MaxResultBytes)
	}
	if j.Schedule != nil {
		c.Name("schedule.name", j.Schedule.Name)
	}
	checkAttempts(&c, j)
	checkSteps(&c, j)
	return c
}

// checkTimes wants times within the years that are kept.
func checkTimes(c *check.List, j *job.Job) {
	if j.EnqueuedAt == 0 {
		c.Add("enqueued_at", "is missing")
	}
	for _, t := range []struct {
		field string
		at    job.Time
	}{
		{"enqueued_at", j.EnqueuedAt}, {"run_at", j.RunAt}, {"start_by", j.StartBy}, {"ready_at", j.ReadyAt}, {"started_at", j.StartedAt}, {"finished_at", j.FinishedAt},
		{"next_at", j.NextAt}, {"cancel_asked_at", j.CancelAskedAt}, {"result_until", j.ResultUntil},
	} {
		if t.at < 0 {
			c.Add(t.field, "is before 1970")
		}
	}
}

func checkAttempts(c *check.List, j *job.Job) {
	if len(j.Attempts) > MaxAttemptsKept {
		c.Add("attempts", "are %d; at most %d are kept", len(j.Attempts), MaxAttemptsKept)
	}
	before, last := 0, j.Attempt
	if j.State == job.Running { // its last one had not ended
		last--
	}
	for i, a := range j.Attempts {
		field := fmt.Sprintf("attempts[%d].", i)
		if a.Number <= before || a.Number > last {
			c.Add(field+"attempt", "%d does not follow %d, up to the last that had ended, %d", a.Number, before, last)
		}
		before = a.Number
		if a.Round < 1 || a.Round > j.Round {
			c.Add(field+"round", "%d is outside 1 to %d", a.Round, j.Round)
		}
		if a.Worker == "" || len(a.Worker) > job.MaxWordBytes {
			c.Add(field+"worker", "is not the id of a worker")
		}
		if a.Outcome.Meaning() == "" {
			c.Add(field+"outcome", "%q is unknown", a.Outcome)
		}
		if a.StartedAt <= 0 || a.EndedAt < 0 || a.RunMS < 0 || a.LogLines < 0 {
			c.Add(field+"started_at", "and the other figures of an attempt are never negative")
		}
		if p := a.Progress; p != nil && !(p.Percent >= 0 && p.Percent <= 100) {
			c.Add(field+"progress.percent", "is outside 0 to 100")
		}
	}
}

func checkSteps(c *check.List, j *job.Job) {
	if len(j.Steps) > MaxSteps {
		c.Add("steps", "are %d; at most %d are kept", len(j.Steps), MaxSteps)
	}
	names := map[string]bool{}
	for i, s := range j.Steps {
		field := fmt.Sprintf("steps[%d].", i)
		if s.Name == "" || len(s.Name) > MaxStepName || names[s.Name] {
			c.Add(field+"name", "is not a valid name of a step, or comes twice")
		}
		names[s.Name] = true
		if s.Attempt < 0 || s.Attempt > j.Attempt || s.BegunAt < 0 || s.DoneAt < 0 || s.State == job.StepDone && s.DoneAt == 0 {
			c.Add(field+"attempt", "or the times of the step do not go with the job")
		}
		if len(s.Result) > MaxResultBytes {
			c.Add(field+"result", "is %d bytes; at most %d are kept", len(s.Result), MaxResultBytes)
		}
	}
}

// CheckLog answers what is wrong with a line that has lines of a log.
func (l *ExportLine) CheckLog() []job.FieldError {
	var c check.List
	for i, line := range l.Log.Lines {
		field := fmt.Sprintf("log.lines[%d].", i)
		if line.Attempt < 1 || line.Line < 1 || line.At < 0 {
			c.Add(field+"line", "is not a place in a log")
		}
		if len(line.Text) > MaxLogLine {
			c.Add(field+"text", "is %d bytes; at most %d are kept", len(line.Text), MaxLogLine)
		}
	}
	return c
}
