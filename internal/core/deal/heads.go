package deal

import (
	"cmp"
	"container/heap"
	"slices"
	"sort"

	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/place"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// heads are the first ready jobs of a queue and task that a deal has read and
// not yet dealt.
type heads struct {
	rows []*store.Row
	// turns are, instead of rows, those of owners, the first one first. Some may follow
	// that were not read, none of which goes before last.
	turns []*store.Head
	last  *store.Turn
	left  int64 // ready jobs that were not read yet
}

// first is the job that goes first of those read; there is one.
func (h *heads) first() *store.Row {
	if len(h.turns) > 0 {
		return h.turns[0].Rows[0]
	}
	return h.rows[0]
}

// line are the heads of one queue's tasks that a take may have, in the order in which they go,
// so that a job costs the same however many tasks there are. Heads are shared with other
// takes: what one of them was dealt leaves a head too far in front, which is mended when it
// comes first. Within a deal heads go later, and tasks to their limits, and never back.
type line struct {
	// age is that of the deal's heads when the line was made; 0 for not yet.
	age  int
	held standings
}

// standing is where a head stands in a line: by the job that came first when it was looked at.
type standing struct {
	task  int64
	first *store.Row
	// inTurn tells that its owners take turns, and tag is that of the first one.
	inTurn bool
	tag    int64
}

func (h *heads) stands(task int64) standing {
	s := standing{task: task, first: h.first()}
	if len(h.turns) > 0 {
		s.inTurn, s.tag = true, h.turns[0].Tag
	}
	return s
}

// first finds the head that goes first: the highest level, then the owner whose turn it is,
// then the lowest rank.
func (l *line) first(d *dealing, q *memory.Named, t *take) (*heads, error) {
	if l.age != d.age {
		if err := l.make(d, q, t); err != nil {
			return nil, err
		}
	}
	for len(l.held) > 0 {
		at := &l.held[0]
		h, err := head(d, q, at.task)
		switch {
		case err != nil:
			return nil, err
		case h == nil:
			heap.Pop(&l.held)
		case h.first() == at.first:
			return h, nil
		default:
			*at = h.stands(at.task)
			heap.Fix(&l.held, 0)
		}
	}
	return nil, nil
}

func (l *line) make(d *dealing, q *memory.Named, t *take) (err error) {
	l.age, l.held = d.age, l.held[:0]
	eachTask(d.tx, q, t.tasks(), func(task int64) {
		if err != nil || d.tx.Settings.MakesCalls(task) != t.own {
			return
		}
		var h *heads
		if h, err = head(d, q, task); h != nil {
			l.held = append(l.held, h.stands(task))
		}
	})
	heap.Init(&l.held)
	return err
}

// standings implement heap.Interface.
type standings []standing

// Len is heap.Interface's, as are the others below.
func (s standings) Len() int { return len(s) }

// Less tells which of two heads of a queue goes first.
func (s standings) Less(i, j int) bool {
	a, b := &s[i], &s[j]
	if a.first.Level != b.first.Level {
		return a.first.Level > b.first.Level
	}
	if a.inTurn && b.inTurn && a.tag != b.tag {
		return a.tag < b.tag
	}
	return cmp.Or(cmp.Compare(a.first.Rank, b.first.Rank), cmp.Compare(a.first.ID, b.first.ID)) < 0
}

// Swap changes two places.
func (s standings) Swap(i, j int) { s[i], s[j] = s[j], s[i] }

// Push adds a head at the end.
func (s *standings) Push(x any) { *s = append(*s, x.(standing)) }

// Pop takes the head at the end away.
func (s *standings) Pop() any {
	last := (*s)[len(*s)-1]
	*s = (*s)[:len(*s)-1]
	return last
}

// next takes the job that goes first out of the heads.
func next(tx *commit.Tx, h *heads) (*store.Row, error) {
	if len(h.turns) == 0 {
		row := h.rows[0]
		h.rows = h.rows[1:]
		return row, nil
	}
	o := h.turns[0]
	row := o.Rows[0]
	o.Rows = o.Rows[1:]
	o.Active = len(o.Rows) > 0 || o.More
	if err := place.Serve(tx, row, &o.Turn); err != nil {
		return nil, err
	}
	h.reorder()
	return row, nil
}

// reorder puts the owner that was served to its new place, or leaves it out where
// others, that were not read, may go before it.
func (h *heads) reorder() {
	o := h.turns[0]
	h.turns = h.turns[1:]
	if !o.Active || h.last != nil && before(h.last, &o.Turn) {
		return
	}
	at := sort.Search(len(h.turns), func(i int) bool { return before(&o.Turn, &h.turns[i].Turn) })
	h.turns = slices.Insert(h.turns, at, o)
}

// before tells which of two turns of a queue and task comes first.
func before(a, b *store.Turn) bool {
	if a.Level != b.Level {
		return a.Level > b.Level
	}
	if a.Tag != b.Tag {
		return a.Tag < b.Tag
	}
	return a.Owner < b.Owner
}

// eachTask visits the tasks that a request may have of a queue: those it names,
// or every task of the queue.
func eachTask(tx *commit.Tx, q *memory.Named, names []string, visit func(task int64)) {
	if len(names) > 0 {
		for _, name := range names {
			if id := tx.Tasks.ID(name); id != 0 {
				visit(id)
			}
		}
		return
	}
	for id := range tx.Counts.TasksOf(q.ID) {
		visit(id)
	}
}

// head gives the heads of a queue and task, reading more where all were dealt;
// nil where there is none.
func head(d *dealing, q *memory.Named, task int64) (*heads, error) {
	tx, wanted := d.tx, d.wanted
	if !taskMayStart(tx.View(), task) {
		return nil, nil
	}
	g := groupOf(q.ID, task)
	h := d.read[g]
	if h == nil {
		ready := tx.Counts.Group(g)[job.Ready]
		if ready == 0 {
			return nil, nil
		}
		h = &heads{left: ready}
		d.read[g] = h
	}
	if len(h.turns) > 0 {
		if err := readOwner(tx, h, g, wanted); err != nil || len(h.turns) > 0 {
			return h, err
		}
	}
	if len(h.rows) > 0 {
		return h, nil
	}
	if h.left <= 0 {
		return nil, nil
	}
	// Rows dealt before are running by now, so that the same statement reads on.
	most, err := int(min(h.left, int64(max(wanted, 1)), mostHeads)), error(nil)
	if tx.Settings.Rules(q).Turns != "" && tx.Places.Walk(q) == nil {
		err = readTurns(tx, h, g, most)
	} else {
		h.rows, err = tx.Store.Heads(q.ID, task, most+tx.Room(commit.ThingStart))
		h.left -= int64(len(h.rows))
		h.rows = startable(tx, h.rows)
	}
	if err != nil {
		return nil, err
	}
	if len(h.rows)+len(h.turns) == 0 {
		h.left = 0
		return nil, nil
	}
	return h, nil
}

func groupOf(queue, task int64) memory.Group { return memory.Group{Queue: queue, Task: task} }

// mostHeads is how many jobs of a queue and task are read at once.
const mostHeads = 256

// readTurns reads the owners whose turns come first, each with its first job.
func readTurns(tx *commit.Tx, h *heads, g memory.Group, most int) (err error) {
	h.turns, err = tx.Store.NextTurns(g.Queue, g.Task, most)
	if h.last = nil; err == nil && len(h.turns) == most {
		last := h.turns[most-1].Turn
		h.last = &last
	}
	h.turns = slices.DeleteFunc(h.turns, func(o *store.Head) bool { return len(startable(tx, o.Rows[:1:1])) == 0 })
	return err
}

// readOwner reads more jobs of the owner that comes first, where those read were dealt.
func readOwner(tx *commit.Tx, h *heads, g memory.Group, wanted int) error {
	o := h.turns[0]
	if len(o.Rows) > 0 {
		return nil
	}
	most := min(wanted, mostHeads)/len(h.turns) + 1
	rows, err := tx.Store.HeadsOf(&store.Row{Queue: g.Queue, Task: g.Task, Level: o.Level, Owner: o.Owner}, most+1)
	if err == nil && len(rows) == 0 { // a turn without a job would hold up all others
		o.Active = false
		h.turns = h.turns[:0]
		return tx.Store.PutTurn(g.Queue, g.Task, &o.Turn)
	}
	o.More = len(rows) > most
	o.Rows = rows[:min(most, len(rows))]
	return err
}

// startable leaves out rows whose start has failed and is set aside.
func startable(tx *commit.Tx, rows []*store.Row) []*store.Row {
	if !tx.HasAside() {
		return rows
	}
	return slices.DeleteFunc(rows, func(r *store.Row) bool { return tx.IsAside(commit.ThingStart, r.ID) })
}
