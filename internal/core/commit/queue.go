package commit

import (
	"context"
	"runtime"
	"time"

	"humblemule.example/internal/core/scope"
	"humblemule.example/job"
)

// command is what is to be applied, and where its answer goes. It may be applied again, when a
// transaction failed.
type command struct {
	check Check
	// rows is about how many rows it writes, by who gave it, and scope what that may see.
	rows  int
	by    string
	scope scope.Scope
	done  chan error
}

// What one transaction holds at most: a single command, or several up to so many rows.
const (
	mostTogether = 1024
	mostRows     = 5000
)

// BulkRows is from how many rows on a command is a bulk: it goes when the small ones that
// waited have gone, and of bulks one at a time.
const BulkRows = 500

// waits are the commands that wait, in order of their arrival. What ends or renews a
// lease goes first: its worker must not lose a job because others write much.
type waits struct {
	urgent, ordinary, bulk chan *command
	// beside are commands that go with those of others.
	beside chan *command
	// next is a bulk whose turn has come.
	next *command
}

func newWaits() waits {
	return waits{make(chan *command, 8192), make(chan *command, 8192), make(chan *command, 256), make(chan *command), nil}
}

// Do applies a command that writes a few rows and answers after it is on disk.
func (c *Committer) Do(ctx context.Context, check Check) error {
	return c.send(ctx, c.commands.ordinary, 1, check)
}

// DoRows applies a command that writes about so many rows.
func (c *Committer) DoRows(ctx context.Context, rows int, check Check) error {
	if rows >= BulkRows {
		return c.send(ctx, c.commands.bulk, rows, check)
	}
	return c.send(ctx, c.commands.ordinary, rows, check)
}

// DoFirst applies a command that ends or renews leases.
func (c *Committer) DoFirst(ctx context.Context, rows int, check Check) error {
	if rows > mostRows {
		return c.send(ctx, c.commands.bulk, rows, check)
	}
	return c.send(ctx, c.commands.urgent, rows, check)
}

// DoBeside applies a command in the transaction of the next commands of others, which it must
// not hold up for long: so it costs no commit of its own. Where none come for so long, it goes
// alone.
func (c *Committer) DoBeside(ctx context.Context, wait time.Duration, check Check) error {
	one := commandOf(ctx, 1, check)
	timer := time.NewTimer(wait)
	defer timer.Stop()
	select {
	case c.commands.beside <- one:
		return c.outcome(one)
	case <-c.Quit:
		return ErrStopping
	case <-timer.C:
		return c.Do(ctx, check)
	}
}

func commandOf(ctx context.Context, rows int, check Check) *command {
	return &command{check: check, rows: max(rows, 1), by: CallOf(ctx).Principal, scope: scope.Of(ctx), done: make(chan error, 1)}
}

func (c *Committer) send(ctx context.Context, to chan *command, rows int, check Check) error {
	one := commandOf(ctx, rows, check)
	select {
	case <-c.Quit:
		return ErrStopping
	default:
	}
	select {
	case to <- one:
	default:
		return job.Fault(job.Busy, "the service has too much to write at the moment; try again in a second, nothing was changed")
	}
	return c.outcome(one)
}

// outcome waits until a command was applied.
func (c *Committer) outcome(one *command) error {
	// A command that was taken is always answered, unless the committer stopped
	// before it took it; ctx cannot call it back.
	select {
	case err := <-one.done:
		return err
	case <-c.Stopped:
		select {
		case err := <-one.done:
			return err
		default:
			return ErrStopping
		}
	}
}

// ErrStopping answers what comes while the service stops.
var ErrStopping = job.Fault(job.Busy, "the service is stopping; try again when it is back, nothing was changed")

// any takes a command that waits; nil where none does.
func (w *waits) any() (one *command) {
	if one, w.next = w.next, nil; one != nil {
		return one
	}
	for _, from := range []chan *command{w.urgent, w.ordinary, w.bulk} {
		select {
		case one = <-from:
			return one
		default:
		}
	}
	return nil
}

// gather takes the commands that wait, as many as a transaction may hold. Where there
// are several it lets those run who are about to give theirs, a few times: a commit
// costs the disk as much for one as for many. A command that is alone waits for
// nobody. A bulk that finds no room is next.
func (c *Committer) gather(first *command) []*command {
	const yields = 5
	w := &c.commands
	batch, rows := []*command{first}, first.rows
	add := func(from chan *command) {
		for len(batch) < mostTogether && rows < mostRows {
			select {
			case one := <-from:
				batch, rows = append(batch, one), rows+one.rows
			default:
				return
			}
		}
	}
	if first.rows >= BulkRows && len(w.urgent)+len(w.ordinary) > 0 && !c.bulkWent {
		w.next, batch, rows = first, nil, 0 // what is small does not wait for it
	}
	for range yields {
		add(w.urgent)
		add(w.ordinary)
		if len(batch) == 1 {
			break
		}
		runtime.Gosched()
	}
	if w.next == nil && rows < mostRows {
		select {
		case w.next = <-w.bulk:
		default:
		}
	}
	if b := w.next; b != nil && rows+b.rows <= mostRows {
		batch, w.next = append(batch, b), nil
	}
	c.bulkWent = w.next != nil // then its turn is the next one
	select {
	case one := <-w.beside:
		batch = append(batch, one)
	default:
	}
	return batch
}
