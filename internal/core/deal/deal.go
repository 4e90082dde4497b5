package deal

import (
	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/place"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// dealing is a deal under way.
type dealing struct {
	tx *commit.Tx
	// read are the heads that were read, and wanted is how many jobs the takes may still have.
	read   map[memory.Group]*heads
	wanted int
	// age grows when heads are read anew.
	age int
	// calls are the queues that have calls, and held is how many pieces of jobs were held in the deal, since
	// the hosts that they call give no answer.
	calls []string
	held  int
	// again tells that the takes of the service are to be dealt to once more.
	again bool
}

// queues are those of which a take may have jobs.
func (d *dealing) queues(t *take) []string {
	if t.own {
		return d.calls
	}
	return t.req.Queues
}

// Deal serves the takes to which the transaction may have something to give: one job at a time round the takes, in order of
// their arrival.
func (de *Dealer) Deal(tx *commit.Tx) error {
	var takes []*take
	d := &dealing{tx: tx, read: map[memory.Group]*heads{}, age: 1}
	all := de.parked.concerned(tx)
	for _, t := range all {
		if t.live() {
			t.leases, t.lines = nil, nil
			if t.own && d.calls == nil {
				d.calls = de.parked.calling.in(tx)
			}
			if t.req.Job != 0 {
				if err := dealNamed(tx, t); err != nil {
					return err
				}
				continue
			}
			takes = append(takes, t)
			d.wanted += t.req.Limit + t.req.Ahead
		}
	}
	for len(takes) > 0 {
		open := takes[:0]
		for _, t := range takes {
			more, err := d.one(t)
			if err != nil {
				return err
			}
			if more {
				open = append(open, t)
				d.wanted--
			}
		}
		takes = open
	}
	de.parked.calling.more = d.again
	noteLeases(tx, all)
	return nil
}

// one leases one job to a take and tells whether it may have another.
func (d *dealing) one(t *take) (more bool, err error) {
	if len(t.leases) == 0 {
		replayed, err := replayLeases(d.tx, t)
		if err != nil || replayed || t.replays {
			return false, err
		}
	}
	h, err := d.best(t)
	for err == nil && h != nil && place.IsLate(d.tx, h.first()) {
		if err = place.SkipLate(d.tx, h.first()); err == nil {
			clear(d.read) // other jobs may have come into its place
			d.age++
			h, err = d.best(t)
		}
	}
	if err == nil && h != nil && place.IsSilent(d.tx, h.first()) {
		h, err = d.past(t, h)
	}
	if err != nil || h == nil || !t.claim() {
		return false, err
	}
	row, err := next(d.tx, h)
	if err != nil {
		return false, err
	}
	if err := startFor(d.tx, t, row); err != nil {
		return false, err
	}
	return len(t.leases) < t.req.Limit+t.req.Ahead, nil
}

// What is held in a piece, and how many pieces in one transaction: who waits for another is not held up.
const (
	heldInPiece = 250
	mostPieces  = 4
)

// past goes past jobs that call hosts which give no answer: it holds them, until one comes that calls
// another.
func (d *dealing) past(t *take, h *heads) (*heads, error) {
	for h != nil && place.IsSilent(d.tx, h.first()) {
		if d.held == mostPieces {
			d.tx.Again()
			d.again = true
			return nil, nil
		}
		d.held++
		if _, err := place.HoldSilent(d.tx, h.first().Host, heldInPiece); err != nil {
			return nil, err
		}
		clear(d.read)
		d.age++
		var err error
		if h, err = d.best(t); err != nil {
			return nil, err
		}
	}
	return h, nil
}

// dealNamed leases the job that a take names, if it is still ready. It comes
// before any heads are read, so that none of them is this job.
func dealNamed(tx *commit.Tx, t *take) error {
	replayed, err := replayLeases(tx, t)
	if err != nil || replayed || t.replays {
		return err
	}
	row, err := tx.Store.Row(t.req.Job)
	if err != nil || row == nil || row.State != job.Ready || !t.claim() {
		return err
	}
	if err := place.ServeTurn(tx, row); err != nil {
		return err
	}
	return startFor(tx, t, row)
}

// startFor leases a row to a take. A row that cannot be leased is set aside, and the
// take gets another.
func startFor(tx *commit.Tx, t *take, row *store.Row) error {
	tx.Passes(commit.ThingStart, row.ID)
	l, err := leaseTo(tx, t, row)
	if err != nil {
		return err
	}
	tx.Done()
	if t.leases == nil {
		t.leases = make([]api.Lease, 0, min(t.req.Limit+t.req.Ahead, mostHeads))
	}
	t.leases = append(t.leases, l)
	return nil
}

// best finds the head that goes first of those that a take may have: that of the
// first of its queues that has any or, by weight, of the queue whose turn it is.
func (d *dealing) best(t *take) (*heads, error) {
	tx, byWeight, ahead := d.tx, t.req.Share == api.ShareByWeight, len(t.leases) >= t.req.Limit
	var open []string
	firsts := map[string]*heads{}
	if t.lines == nil {
		t.lines = make([]line, len(d.queues(t)))
	}
	for i, name := range d.queues(t) {
		q := tx.Queues.Find(name)
		if q == nil || tx.Settings.Paused(q) || ahead && limited(tx.Settings.Rules(q)) || !mayStartOrWaits(tx, q) {
			continue
		}
		first, err := t.lines[i].first(d, q, t)
		if err != nil || first != nil && !byWeight {
			return first, err
		}
		if first != nil && firsts[name] == nil {
			open, firsts[name] = append(open, name), first
		}
	}
	if len(open) == 0 {
		return nil, nil
	}
	return firsts[tx.Places.Turns(t.worker.UID).Next(open, t.weight)], nil
}
