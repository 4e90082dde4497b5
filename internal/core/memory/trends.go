package memory

import (
	"math"

	"humblemule.example/api"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/core/trend"
	"humblemule.example/job"
)

// News is what a transaction has to tell when it is committed. It is what moved, not what
// stands: nothing of it is kept.
type News struct {
	layered
	// Moved are the jobs that changed their states, in order.
	Moved []Move
	// Touched are jobs that changed otherwise.
	Touched []int64
	// Asked are leases whose handlers are asked to end.
	Asked []*Lease
	// Settings tells that a queue was paused, or goes on.
	Settings bool
}

// Move is a job that changed its state.
type Move struct {
	Job      int64
	At       Group
	From, To job.State
}

func (p *News) load(*file) error { p.drop(); return nil }
func (p *News) publish()         {}

// drop makes new lists: whoever was told may still look at the old ones.
func (p *News) drop() { p.Moved, p.Touched, p.Asked, p.Settings = nil, nil, nil, false }

// Any tells whether there is anything to tell.
func (p *News) Any() bool {
	return len(p.Moved)+len(p.Touched)+len(p.Asked) > 0 || p.Settings
}

// Trends are figures over time: what moved within the last minute, and how long runs of
// each task usually take.
type Trends struct {
	layered
	moves trend.Moves
	usual map[int64]*trend.Usual // by task
	runs  []taskRun              // of the transaction
	gone  []int64                // tasks that it has taken away
}

// taskRun is how long a job that is done took.
type taskRun struct {
	task int64
	ms   float64
}

// What is read at the start to know the usual run times again: the newest done jobs of
// each queue and task, and of all together no more than that.
const (
	recentOfGroup = 500
	recentOfAll   = 20_000
)

func (p *Trends) load(f *file) error {
	p.usual = map[int64]*trend.Usual{}
	p.drop()
	left := recentOfAll
	for _, c := range f.counts {
		if c.N == 0 || c.State != job.Done || left <= 0 {
			continue
		}
		past, err := p.m.store.Recent(store.Group{Queue: c.Queue, Task: c.Task, State: c.State}, min(recentOfGroup, left))
		if err != nil {
			return err
		}
		left -= len(past)
		for i := len(past) - 1; i >= 0; i-- { // oldest first
			p.add(taskRun{c.Task, float64(past[i].RunMS)})
		}
	}
	return nil
}

// Ran notes how long a job that is done took, in ms.
func (p *Trends) Ran(task int64, ms float64) { p.runs = append(p.runs, taskRun{task, ms}) }

func (p *Trends) forgetTask(id int64) { p.gone = append(p.gone, id) }

func (p *Trends) add(r taskRun) {
	if p.usual[r.task] == nil {
		p.usual[r.task] = new(trend.Usual)
	}
	p.usual[r.task].Add(r.ms)
}

func (p *Trends) publish() {
	for _, m := range p.m.News.Moved {
		p.moves.Add(p.m.now, trend.Move{Queue: m.At.Queue, From: m.From, To: m.To})
	}
	for _, r := range p.runs {
		p.add(r)
	}
	for _, task := range p.gone {
		delete(p.usual, task)
	}
}

func (p *Trends) drop() { p.runs, p.gone = nil, nil }

// fewestRuns is how many runs must be known before a task has a usual run time.
const fewestRuns = 5

// KeptSpans tells the run times of a task; nil where too few are known.
func (p *Trends) KeptSpans(task int64) *api.Spans {
	u := p.usual[task]
	if u == nil {
		return nil
	}
	s := u.Sketch()
	if s.Count() < fewestRuns {
		return nil
	}
	ms := func(x float64) int64 { return int64(math.Ceil(x)) }
	return &api.Spans{Count: s.Count(), P50MS: ms(s.Quantile(0.5)), P95MS: ms(s.Quantile(0.95)), MaxMS: ms(s.Max())}
}

// KeptMoves adds up the moves of the last minute, of one queue, or of all where it is 0.
func (p *Trends) KeptMoves(now job.Time, queue int64) map[trend.Move]int64 {
	return p.moves.Sum(now, queue)
}

// KeptFlows tells how many jobs came to each queue, and were finished, in the last minute.
func (p *Trends) KeptFlows(now job.Time) map[int64]trend.Flow { return p.moves.Flows(now) }
