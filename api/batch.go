package api

import (
	"fmt"
	"slices"
	"strings"

	"humblemule.example/internal/check"
	"humblemule.example/internal/text"
	"humblemule.example/job"
)

// What a batch may hold.
const (
	// MaxBatchJobs is how many jobs come in one call, the last one included, and MaxBatchEdges how often
	// they may name one another in it.
	MaxBatchJobs  = job.MaxSpecs
	MaxBatchEdges = 100_000
)

// NewBatch asks for jobs that belong together: all of them are enqueued, or none.
type NewBatch struct {
	// Name says what the batch is, at most 200 bytes. Names need not be unique.
	Name string `json:"name,omitzero"`
	// Owner is whom it is for; it is that of its jobs too, where they name none.
	Owner string `json:"owner,omitzero"`
	// Labels are those of the batch, as those of a job are.
	Labels map[string]string `json:"labels,omitzero"`
	// Dedupe says when an earlier batch of the same name answers in place of a new one: unfinished,
	// while not all of its jobs have ended, or a duration to 30d since it was made. Empty means never.
	Dedupe string `json:"dedupe,omitzero"`
	// Open lets more jobs be added until the batch is closed.
	Open bool `json:"open,omitzero"`
	// Jobs are those of the batch, 10 000 at most with the last one; more can be added to one that is open.
	Jobs []BatchJob `json:"jobs,omitzero"`
	// Last is a job that waits for all others, also those that are added later. Its After says when it
	// goes on, and names no jobs.
	Last *job.Spec `json:"last,omitzero"`
	// Notify says who is told when all of its jobs have ended: on done; on dead, which is told of a batch that has
	// failed; on cancelled.
	Notify []job.Notify `json:"notify,omitzero"`
}

// BatchEnded is what a message of the end of a batch says.
type BatchEnded struct {
	ID     int64             `json:"id"`
	Name   string            `json:"name,omitzero"`
	Owner  string            `json:"owner,omitzero"`
	Labels map[string]string `json:"labels,omitzero"`
	// State is done, failed or cancelled, and Counts its jobs by state, without states that none is in.
	State      BatchState          `json:"state"`
	Jobs       int64               `json:"jobs"`
	Counts     map[job.State]int64 `json:"counts"`
	MadeAt     job.Time            `json:"made_at"`
	FinishedAt job.Time            `json:"finished_at"`
}

// BatchJob is a job of a batch that is to be enqueued.
type BatchJob struct {
	// Ref is its name in the batch, by which others wait for it, at most 100 bytes.
	Ref string `json:"ref,omitzero"`
	job.Spec
}

// Check answers what is wrong with a new batch; at names the i-th job for messages.
func (b *NewBatch) Check(maxPayload int, at func(i int) string) []job.FieldError {
	var c check.List
	c.Word("name", b.Name, job.MaxWordBytes)
	c.Word("owner", b.Owner, job.MaxWordBytes)
	job.CheckLabels(&c, b.Labels)
	b.checkDedupe(&c)
	if len(b.Jobs) == 0 && !b.Open {
		c.Add("jobs", "is empty; give the batch at least one job, or open: true to add them later")
	}
	if b.Last != nil {
		checkLast(&c, b.Last, maxPayload)
	}
	job.CheckNotify(&c, "notify", b.Notify)
	for i, told := range b.Notify {
		if slices.Contains(told.On, job.Skipped) {
			c.Add(fmt.Sprintf("notify[%d].on", i), "holds skipped, as which no batch ends; give done, dead (of one that has failed) or cancelled")
		}
	}
	n := len(b.Jobs)
	if b.Last != nil {
		n++
	}
	if n > MaxBatchJobs {
		c.Add("jobs", "are %d with the last one; at most %d come in one call: make the batch open, and add more", n, MaxBatchJobs)
		return c
	}
	return append(c, CheckBatchJobs(b.Jobs, maxPayload, at, nil)...)
}

func (b *NewBatch) checkDedupe(c *check.List) {
	if b.Dedupe == "" {
		return
	}
	if b.Name == "" {
		c.Add("dedupe", "needs a name by which an earlier batch is found")
	}
	if b.Dedupe == job.Unfinished {
		return
	}
	if d, err := job.ParseDuration(b.Dedupe); err != nil || d <= 0 || d > job.MaxDedupe {
		c.Add("dedupe", "%q is neither unfinished nor a duration such as 24h, to 30d", text.Shorten(b.Dedupe))
	}
}

// checkLast adds what is wrong with the last job.
func checkLast(c *check.List, s *job.Spec, maxPayload int) {
	plain := *s
	if a := s.After; a != nil {
		a.CheckRule(c, "last.after")
		if len(a.Jobs)+len(a.Refs) > 0 {
			c.Add("last.after", "names jobs; the last job waits for all of the batch: give when and if_not alone")
		}
		plain.After = nil
	}
	for _, w := range plain.Check(maxPayload) {
		c.Add("last."+w.Field, "%s", w.Message)
	}
	inBatch(c, "last.", s)
}

// inBatch adds what a job of a batch cannot have.
func inBatch(c *check.List, at string, s *job.Spec) {
	if s.Dedupe != "" {
		c.Add(at+"dedupe", "cannot be given to a job of a batch, which another job would answer for; give the batch a name and dedupe")
	}
}

// CheckBatchJobs answers what is wrong with jobs of a batch that come together; known tells which
// names jobs have that came before, nil for none.
func CheckBatchJobs(jobs []BatchJob, maxPayload int, at func(i int) string, known func(ref string) bool) []job.FieldError {
	const most = 100
	var c check.List
	refs, edges := make(map[string]int, len(jobs)), 0
	for i := range jobs {
		if ref := jobs[i].Ref; ref != "" {
			c.Word(at(i)+"ref", ref, job.MaxRef)
			if first, twice := refs[ref]; twice {
				c.Add(at(i)+"ref", "%q is that of another job of the batch, at %s", text.Shorten(ref), strings.TrimRight(at(first), ".: "))
			} else if known != nil && known(ref) {
				c.Add(at(i)+"ref", "%q is that of a job that was added before", text.Shorten(ref))
			}
			refs[ref] = i
		}
	}
	for i := range jobs {
		edges += checkBatchJob(&c, &jobs[i], maxPayload, at(i), func(ref string) bool {
			_, here := refs[ref]
			return here || known != nil && known(ref)
		})
		if len(c) >= most {
			return c[:most]
		}
	}
	if edges > MaxBatchEdges {
		c.Add("jobs", "wait for one another %d times; at most %d are taken in one call: let a job in between wait for many, or add jobs to an open batch", edges, MaxBatchEdges)
	}
	if len(c) == 0 {
		checkCycle(&c, jobs, refs, at)
	}
	return c
}

// checkBatchJob adds what is wrong with one job, and counts those that it waits for.
func checkBatchJob(c *check.List, j *BatchJob, maxPayload int, at string, there func(ref string) bool) (edges int) {
	plain := j.Spec
	plain.After = nil
	for _, w := range plain.Check(maxPayload) {
		c.Add(at+w.Field, "%s", w.Message)
	}
	inBatch(c, at, &j.Spec)
	a := j.After
	if a == nil {
		return 0
	}
	var of check.List
	a.CheckRule(&of, "after")
	a.CheckJobs(&of)
	if len(a.Jobs)+len(a.Refs) == 0 {
		of.Add("after.refs", "is empty; name the jobs that this one waits for, or leave after out")
	}
	if n := len(a.Jobs) + len(a.Refs); n > job.MaxAfter {
		of.Add("after.refs", "are %d with the ids; a job waits for at most %d others: let the last job of the batch wait for all", n, job.MaxAfter)
	}
	seen := make(map[string]bool, len(a.Refs))
	for k, ref := range a.Refs {
		switch {
		case !there(ref):
			of.Add(fmt.Sprintf("after.refs[%d]", k), "%q is no job's ref in this batch", text.Shorten(ref))
		case seen[ref]:
			of.Add(fmt.Sprintf("after.refs[%d]", k), "%q is named twice", text.Shorten(ref))
		}
		seen[ref] = true
	}
	for _, w := range of {
		c.Add(at+w.Field, "%s", w.Message)
	}
	return len(a.Jobs) + len(a.Refs)
}

// checkCycle adds a cycle of jobs that wait for one another, where there is one.
func checkCycle(c *check.List, jobs []BatchJob, refs map[string]int, at func(i int) string) {
	_, cycle := levels(jobs, refs)
	if cycle == nil {
		return
	}
	names := make([]string, 0, len(cycle)+1)
	for _, i := range append(cycle, cycle[0]) {
		names = append(names, text.Shorten(jobs[i].Ref))
	}
	const told = 8
	if len(names) > told {
		names = slices.Concat(names[:told-2], []string{"…"}, names[len(names)-1:])
	}
	says := "waits for itself"
	if len(cycle) > 1 {
		says = "is in a cycle of jobs that wait for one another: " + strings.Join(names, " after ")
	}
	c.Add(at(cycle[0])+"after.refs", "%s", says)
}

// Levels lays jobs of a batch in levels: those of the first wait for none of the others, those of a
// later one for some of the level before. The jobs are told by their places. The check must have found
// nothing wrong with them.
func Levels(jobs []BatchJob) [][]int {
	refs := make(map[string]int, len(jobs))
	for i := range jobs {
		if jobs[i].Ref != "" {
			refs[jobs[i].Ref] = i
		}
	}
	of, _ := levels(jobs, refs)
	var all [][]int
	for i, level := range of {
		for len(all) <= level {
			all = append(all, nil)
		}
		all[level] = append(all[level], i)
	}
	return all
}

// levels gives the level of each job, or else jobs that form a cycle (Kahn 1962).
func levels(jobs []BatchJob, refs map[string]int) (of []int, cycle []int) {
	of = make([]int, len(jobs))
	unmet, then := make([]int, len(jobs)), make([][]int, len(jobs))
	for i := range jobs {
		for _, n := range needsOf(&jobs[i], refs) {
			unmet[i]++
			then[n] = append(then[n], i)
		}
	}
	var free []int
	for i, n := range unmet {
		if n == 0 {
			free = append(free, i)
		}
	}
	left := len(jobs)
	for ; len(free) > 0; left-- {
		i := free[0]
		free = free[1:]
		for _, t := range then[i] {
			of[t] = max(of[t], of[i]+1)
			if unmet[t]--; unmet[t] == 0 {
				free = append(free, t)
			}
		}
	}
	if left == 0 {
		return of, nil
	}
	return of, cycleIn(jobs, refs, unmet)
}

// needsOf are the places of those jobs that one waits for.
func needsOf(j *BatchJob, refs map[string]int) (all []int) {
	if j.After == nil {
		return nil
	}
	for _, ref := range j.After.Refs {
		if i, here := refs[ref]; here {
			all = append(all, i)
		}
	}
	return all
}

// cycleIn finds a cycle among jobs of which each waits for another of them.
func cycleIn(jobs []BatchJob, refs map[string]int, unmet []int) []int {
	at := slices.IndexFunc(unmet, func(n int) bool { return n > 0 })
	var path []int
	for seen := map[int]int{}; ; {
		if from, back := seen[at]; back {
			return path[from:]
		}
		seen[at] = len(path)
		path = append(path, at)
		for _, n := range needsOf(&jobs[at], refs) {
			if unmet[n] > 0 {
				at = n
				break
			}
		}
	}
}

// BatchState is how a batch stands.
type BatchState string

// How a batch may stand.
const (
	// BatchRunning: some of its jobs have not ended, or more may be added; BatchStuck: none of those goes
	// on until somebody acts; BatchDone: all were done, or skipped by their handlers; BatchFailed: all
	// have ended, and some are dead or came too late; BatchCancelled: all have ended, and some were
	// cancelled.
	BatchRunning   BatchState = "running"
	BatchStuck     BatchState = "stuck"
	BatchDone      BatchState = "done"
	BatchFailed    BatchState = "failed"
	BatchCancelled BatchState = "cancelled"
)

// BatchStates are all of them.
func BatchStates() []BatchState {
	return []BatchState{BatchRunning, BatchStuck, BatchDone, BatchFailed, BatchCancelled}
}

// Over tells whether all jobs of the batch have ended.
func (s BatchState) Over() bool {
	return s == BatchDone || s == BatchFailed || s == BatchCancelled
}

// Batch is jobs that belong together, as they stand.
type Batch struct {
	ID     int64             `json:"id"`
	Name   string            `json:"name,omitzero"`
	Owner  string            `json:"owner,omitzero"`
	Labels map[string]string `json:"labels,omitzero"`
	State  BatchState        `json:"state"`
	Open   bool              `json:"open,omitzero"`
	MadeAt job.Time          `json:"made_at"`
	MadeBy string            `json:"made_by"`
	// FinishedAt is when the last of its jobs ended; absent while some have not.
	FinishedAt job.Time `json:"finished_at,omitzero"`
	// Jobs is how many there are, Finished how many of them have ended, and Gone how many of those are no
	// longer kept. Counts are all of them by state; of the skipped ones TooLate came too late.
	Jobs     int64               `json:"jobs"`
	Finished int64               `json:"finished"`
	Gone     int64               `json:"gone,omitzero"`
	Counts   map[job.State]int64 `json:"counts"`
	TooLate  int64               `json:"too_late,omitzero"`
	// Last is the id of the job that waits for all others; absent where there is none.
	Last int64 `json:"last,omitzero"`
	// Percent is how many of a hundred of its jobs have ended.
	Percent float64 `json:"percent"`
	// PercentOfWork is the same by the usual run times of its tasks, and ExpectedEnd when it will have ended by
	// these, by the slots that serve its queues and by the longest path through its jobs. Both are told of a
	// batch that is asked for by its id, where those run times are known; the end of one that is closed,
	// and not stuck.
	PercentOfWork *float64 `json:"percent_of_work,omitzero"`
	ExpectedEnd   job.Time `json:"expected_end,omitzero"`
	// Summary tells in a sentence how it stands and what it waits for.
	Summary string `json:"summary,omitzero"`
	// IDs are those of the jobs that were enqueued by the call, in their order, the last one at the end;
	// told by the calls that enqueue.
	IDs []int64 `json:"ids,omitzero"`
	// Duplicate tells that an earlier batch has answered.
	Duplicate bool `json:"duplicate,omitzero"`
}

// BatchGraph lays the jobs of a batch in levels: those of the first wait for none of the others, those of a
// later one for some of the level before, and the last job for all.
type BatchGraph struct {
	Levels int         `json:"levels"`
	Nodes  []BatchNode `json:"nodes"`
	Links  []BatchLink `json:"links"`
	// More tells that there are more jobs than those that are laid out, which came first.
	More bool `json:"more,omitzero"`
}

// BatchNode is the jobs of a task in a level, or in several where each is one job that waits for the one
// before.
type BatchNode struct {
	// Level is that of the first of them, from 1 on, and Depth over how many levels they reach.
	Level int    `json:"level"`
	Depth int    `json:"depth"`
	Task  string `json:"task"`
	// Jobs is how many they are; Counts are they by state, and First the first ten.
	Jobs   int64               `json:"jobs"`
	Counts map[job.State]int64 `json:"counts"`
	First  []job.Edge          `json:"first"`
	// Longest tells that one of them is on the path that takes longest, by the usual run times of its tasks.
	Longest bool `json:"longest,omitzero"`
	// Last tells that it is the last job.
	Last bool `json:"last,omitzero"`
}

// BatchLink is that jobs of one node wait for jobs of another; both are told by their places among the
// nodes.
type BatchLink struct {
	From int `json:"from"`
	To   int `json:"to"`
	// Jobs is how often one waits for one.
	Jobs    int64 `json:"jobs"`
	Longest bool  `json:"longest,omitzero"`
}

// MaxBatchGraph is how many jobs of a batch are laid out.
const MaxBatchGraph = 20_000

// BatchPage is a page of a list of batches, newest first.
type BatchPage struct {
	Batches    []Batch `json:"batches"`
	NextCursor string  `json:"next_cursor,omitzero"`
}

// BatchQuery says which batches are listed; what is empty is not asked for.
type BatchQuery struct {
	State       BatchState
	Name, Owner string
	Limit       int
	Cursor      string
}
