// Package read answers questions: lists, one job, causes, queues, workers, schedules, how
// things stand and what is wrong with it. It needs the memory, under its read lock, and the
// connections that only read; it never waits for a write, and changes nothing.
package read

import (
	"sync"

	"humblemule.example/api"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// Reader answers questions. Its methods may be called from any goroutine.
type Reader struct {
	store *store.Store
	m     *memory.Memory
	clock *memory.Clock
	// setAside lists the timed work that is set aside.
	setAside func() []api.SetAside
	told     Beside
	unserved unserved
	paces    *paces
	outlooks *outlooks
	stuck    *stuck
}

// Beside is what others know of how things stand, whom the reader does not: since when the disk
// takes no writes, 0 while it does; why jobs are not taken in, empty while they are; the operations
// under way; and what is wrong with the backups that are made by themselves, empty where nothing is.
type Beside struct {
	RefusingSince func() job.Time
	DiskFull      func() string
	UnderWay      func() []api.Operation
	BackupsWrong  func() string
	// Unkept are alerts that are not in the file, since the disk takes no writes.
	Unkept func() []api.Alert
	// MayRun says why there is no command of a name for alerts, and Mails whether mail can be sent.
	MayRun func(command string) error
	Mails  func() bool
	// Secrets says which secrets there are for what.
	Secrets interface {
		ForHook(secret, hook string) error
		ForTask(secret, task string) error
		Unreadable() []string
	}
}

// Ask says whom to ask for what others know. It is called before the first question.
func (rd *Reader) Ask(b Beside) { rd.told = b }

// New gives a reader of a file and what is kept beside it.
func New(s *store.Store, m *memory.Memory, clock *memory.Clock, setAside func() []api.SetAside) *Reader {
	return &Reader{store: s, m: m, clock: clock, setAside: setAside, unserved: unserved{mu: new(sync.Mutex)}, paces: new(paces), outlooks: new(outlooks), stuck: new(stuck)}
}

// NoJob says that a job is not there; NoQueue says it of a queue, and NoSchedule of a schedule.
func NoJob(id int64) error { return job.Fault(job.NotFound, "there is no job %d", id) }

// NoQueue goes with [NoJob].
func NoQueue(name string) error {
	return job.Fault(job.NotFound, "there is no queue %q; a queue exists from its first job", name)
}

// NoSchedule goes with [NoJob].
func NoSchedule(name string) error { return job.Fault(job.NotFound, "there is no schedule %q", name) }

// Names gives a queue's and a task's name.
func (rd *Reader) Names(queueID, taskID int64) (queue, task string) {
	rd.m.RLock()
	defer rd.m.RUnlock()
	return rd.m.Queues.KeptName(queueID), rd.m.Tasks.KeptName(taskID)
}

// keptQueue finds a queue by its name; an error where it is not there, or not in the scope.
func (rd *Reader) keptQueue(in scope.Scope, name string) (*memory.Named, error) {
	rd.m.RLock()
	defer rd.m.RUnlock()
	if q := rd.m.Queues.KeptNamed(name); q != nil && in.Sees(name, "") {
		return q, nil
	}
	return nil, NoQueue(name)
}
