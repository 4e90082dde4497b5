package memory

import (
	"iter"
	"slices"

	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// Counts are the kept counts of jobs, by queue, task and state, with their sums by queue
// and by task; and how many jobs of a queue are gone for good. So no question that they
// answer reads a job, however many there are.
type Counts struct{ CountsView }

// CountsView is what of them can be seen, and not changed.
type CountsView struct {
	layered
	groups Overlay[Group, *ByState]
	queues Overlay[int64, *ByState]
	tasks  Overlay[int64, *ByState]
	// past are jobs that are gone, by queue; gone are those of the transaction.
	past Overlay[int64, *ByState]
	gone map[store.Group]int64
	// fresh are tasks of which the transaction has given a queue its first counts.
	fresh map[int64][]int64
	// tasksOf are the tasks of which a queue has counts, as they were committed.
	tasksOf map[int64][]int64
}

// Group is a queue and a task.
type Group struct{ Queue, Task int64 }

// ByState counts jobs by their states.
type ByState [job.NumStates]int64

// Waiting counts those that wait, for whatever.
func (n *ByState) Waiting() int64 {
	return n[job.Held] + n[job.Scheduled] + n[job.Ready] + n[job.Backoff]
}

// None tells whether there is no job.
func (n *ByState) None() bool { return *n == ByState{} }

func (p *Counts) load(f *file) error {
	keep(&p.layered, &p.groups, map[Group]*ByState{})
	keep(&p.layered, &p.queues, map[int64]*ByState{})
	keep(&p.layered, &p.tasks, map[int64]*ByState{})
	keep(&p.layered, &p.past, map[int64]*ByState{})
	p.gone, p.fresh, p.tasksOf = nil, nil, map[int64][]int64{}
	for _, c := range f.counts {
		at := Group{c.Queue, c.Task}
		if p.groups.kept[at] == nil {
			p.tasksOf[c.Queue] = append(p.tasksOf[c.Queue], c.Task)
		}
		of(p.groups.kept, at)[c.State] += c.N
		of(p.queues.kept, c.Queue)[c.State] += c.N
		of(p.tasks.kept, c.Task)[c.State] += c.N
	}
	past, err := p.m.store.PastCounts()
	for _, c := range past {
		of(p.past.kept, c.Queue)[c.State] += c.N
	}
	return err
}

// of gives the counts of a key, made where there are none.
func of[K comparable](all map[K]*ByState, k K) *ByState {
	if all[k] == nil {
		all[k] = new(ByState)
	}
	return all[k]
}

// Add counts jobs of a queue and task in a state, or no longer.
func (p *Counts) Add(at Group, s job.State, n int64) {
	if _, known := p.groups.Get(at); !known {
		if p.fresh == nil {
			p.fresh = map[int64][]int64{}
		}
		p.fresh[at.Queue] = append(p.fresh[at.Queue], at.Task)
	}
	edit(&p.groups, at)[s] += n
	edit(&p.queues, at.Queue)[s] += n
	edit(&p.tasks, at.Task)[s] += n
}

// edit gives the counts of a key that the transaction may change.
func edit[K comparable](all *Overlay[K, *ByState], k K) *ByState {
	if n, mine := all.Mine(k); mine {
		return n
	}
	next := new(ByState)
	if kept := all.At(k); kept != nil {
		*next = *kept
	}
	all.Put(k, next)
	return next
}

var none ByState

// Group counts the jobs of a queue and task; Queue those of a queue, and Task those of a
// task. What they answer must not be altered.
func (p *CountsView) Group(at Group) *ByState { return orNone(p.groups.At(at)) }

// Queue goes with [Counts.Group].
func (p *CountsView) Queue(id int64) *ByState { return orNone(p.queues.At(id)) }

// Task goes with [Counts.Group].
func (p *CountsView) Task(id int64) *ByState { return orNone(p.tasks.At(id)) }

func orNone(n *ByState) *ByState {
	if n == nil {
		return &none
	}
	return n
}

// TasksOf visits the tasks of which a queue has, or has had, jobs.
func (p *CountsView) TasksOf(queue int64) iter.Seq[int64] {
	return func(yield func(int64) bool) {
		for _, task := range p.tasksOf[queue] {
			if !yield(task) {
				return
			}
		}
		for _, task := range p.fresh[queue] {
			if _, kept := p.groups.Kept(Group{queue, task}); !kept && !yield(task) {
				return
			}
		}
	}
}

// Finishes is how many jobs the transaction has finished.
func (p *CountsView) Finishes() (n int) {
	for at, now := range p.groups.Changed() {
		was := p.KeptGroup(at)
		for _, s := range job.FinishedStates() {
			n += int(max(now[s]-was[s], 0))
		}
	}
	return n
}

// Retire counts jobs whose rows are deleted for good.
func (p *Counts) Retire(g store.Group, n int64) {
	edit(&p.past, g.Queue)[g.State] += n
	if p.gone == nil {
		p.gone = map[store.Group]int64{}
	}
	p.gone[g] += n
}

func (p *Counts) flush() error {
	for at, now := range p.groups.Changed() {
		was := p.KeptGroup(at)
		for s, n := range now {
			if n == was[s] {
				continue
			}
			if err := p.m.store.PutCount(at.Queue, at.Task, job.State(s), n); err != nil {
				return err
			}
		}
	}
	for g, n := range p.gone {
		if err := p.m.store.CountPast(g.Queue, g.Task, g.State, n); err != nil {
			return err
		}
	}
	return nil
}

func (p *Counts) publish() {
	for at := range p.groups.Changed() {
		if _, kept := p.groups.Kept(at); !kept {
			p.tasksOf[at.Queue] = append(p.tasksOf[at.Queue], at.Task)
		}
	}
	for at := range p.groups.Gone() {
		p.tasksOf[at.Queue] = slices.DeleteFunc(slices.Clone(p.tasksOf[at.Queue]), func(task int64) bool { return task == at.Task })
	}
	p.layered.publish()
}

func (p *Counts) drop() {
	p.layered.drop()
	p.gone, p.fresh = nil, nil
}

// Used tells whether a queue has ever had a job.
func (p *CountsView) Used(queue int64) bool {
	for range p.TasksOf(queue) {
		return true
	}
	return p.past.At(queue) != nil && !p.past.At(queue).None()
}

func (p *Counts) forgetQueue(id int64) {
	for task := range p.TasksOf(id) {
		p.groups.Delete(Group{id, task})
	}
	p.queues.Delete(id)
	p.past.Delete(id)
}

// forgetTask takes the counts of a task away, and tells in which queues there were some.
func (p *Counts) forgetTask(id int64) (queues []int64, err error) {
	past, err := p.m.store.PastOfTask(id)
	for _, c := range past {
		if p.m.Queues.Get(c.Queue) != nil {
			edit(&p.past, c.Queue)[c.State] -= c.N
		}
		queues = append(queues, c.Queue)
	}
	for at := range p.groups.All() {
		if at.Task == id {
			queues = append(queues, at.Queue)
			p.groups.Delete(at)
		}
	}
	p.tasks.Delete(id)
	slices.Sort(queues)
	return slices.Compact(queues), err
}

// KeptGroup counts the jobs of a queue and task; KeptQueue those of a queue, KeptTask those
// of a task, and KeptPast those of a queue that are gone.
func (p *CountsView) KeptGroup(at Group) *ByState {
	n, _ := p.groups.Kept(at)
	return orNone(n)
}

// KeptQueue goes with [Counts.KeptGroup].
func (p *CountsView) KeptQueue(id int64) *ByState {
	n, _ := p.queues.Kept(id)
	return orNone(n)
}

// KeptTask goes with [Counts.KeptGroup].
func (p *CountsView) KeptTask(id int64) *ByState {
	n, _ := p.tasks.Kept(id)
	return orNone(n)
}

// KeptPast goes with [Counts.KeptGroup].
func (p *CountsView) KeptPast(queue int64) *ByState {
	n, _ := p.past.Kept(queue)
	return orNone(n)
}

// KeptTasksOf are the tasks of which a queue has, or has had, jobs.
func (p *CountsView) KeptTasksOf(queue int64) []int64 { return p.tasksOf[queue] }

// AllKeptGroups visits the counts of all queues and tasks.
func (p *CountsView) AllKeptGroups() iter.Seq2[Group, *ByState] { return p.groups.AllKept() }
