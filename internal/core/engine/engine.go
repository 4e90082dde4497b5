// Package engine is the core as a whole: it opens a data file, puts the rooms over it
// together, and starts the committer. What each method does is told by its room:
//
//   - [command.Desk]: commands on single jobs
//   - [deal.Dealer]: requests of workers for jobs, their leases, and who the workers are
//   - [bulk.Operator]: actions on many jobs
//   - [plan.Planner]: schedules
//   - [setup.Setter]: settings of queues and tasks, and files that define them
//   - [mark.Marker]: moments that are drawn on charts
//   - [follow.Follower]: labels that are followed
//   - [backup.Keeper]: copies of the data file
//   - [compact.Compactor]: the data file itself
//   - [session.Register]: who has shown a token to the console
//   - [transfer.Importer]: what other services have exported
//   - [hook.Receiver]: webhooks that come in
//   - [call.Exchange]: hosts that calls go to
//   - [notice.Herald]: endpoints, to which messages go
//   - [lookout.Lookout]: alerts, which say that something is wrong
//   - [read.Reader]: questions
//   - [watch.Watchers]: what changes, and the end of jobs
//
// The engine knows no HTTP: the service's routes, and worker pools that run in the same
// process, call the same methods.
package engine

import (
	"context"
	"errors"

	"humblemule.example/api"
	"humblemule.example/internal/core/after"
	"humblemule.example/internal/core/backup"
	"humblemule.example/internal/core/bulk"
	"humblemule.example/internal/core/call"
	"humblemule.example/internal/core/command"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/compact"
	"humblemule.example/internal/core/deal"
	"humblemule.example/internal/core/follow"
	"humblemule.example/internal/core/hook"
	"humblemule.example/internal/core/lookout"
	"humblemule.example/internal/core/mark"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/notice"
	"humblemule.example/internal/core/plan"
	"humblemule.example/internal/core/read"
	"humblemule.example/internal/core/session"
	"humblemule.example/internal/core/setup"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/core/tally"
	"humblemule.example/internal/core/transfer"
	"humblemule.example/internal/core/upkeep"
	"humblemule.example/internal/core/watch"
)

// Engine keeps the jobs of one data file. Its methods may be called from any goroutine.
type Engine struct {
	*command.Desk
	*deal.Dealer
	*bulk.Operator
	*plan.Planner
	*setup.Setter
	*mark.Marker
	*follow.Follower
	*backup.Keeper
	*compact.Compactor
	*session.Register
	*transfer.Importer
	*hook.Receiver
	*call.Exchange
	*notice.Herald
	*lookout.Lookout
	*read.Reader
	*watch.Watchers
	c *commit.Committer
}

// What callers of an engine need beside it.
type (
	// Options set up an engine.
	Options = commit.Options
	// Call is who makes a call.
	Call = commit.Call
	// Secrets says what may use which secret.
	Secrets = commit.Secrets
	// Condition is what a caller knows of a thing that it changes.
	Condition = commit.Condition
	// Changes is what has changed since a watcher looked last.
	Changes = watch.Changes
	Watcher = watch.Watcher
	// Meter is what a service tells of itself to whoever gathers figures of many, MeteredJobs of a
	// queue or a task, and Histogram how something was spread.
	Meter       = read.Meter
	MeteredJobs = read.MeteredJobs
	Histogram   = tally.Histogram
	// Session is who has shown a token to the console, and SessionKept what is kept of it.
	Session     = session.Session
	SessionKept = store.Session
	// Span is what a job has gone through, for those who look at traces, and SpanKind of what.
	Span     = memory.Span
	SpanKind = memory.SpanKind
	// Arrived is a delivery to a hook, as it came.
	Arrived = hook.Arrived
	// LogQuery says which lines of a job's log are asked for.
	LogQuery = read.LogQuery
)

const (
	// Driver names what reads and writes data files.
	Driver = store.Driver
	// Metered is how many queues, tasks and schedules have figures of their own.
	Metered = read.Metered
	// LongestSession is how long a session lasts.
	LongestSession = session.Longest
	// The kinds of spans.
	SpanEnqueue = memory.SpanEnqueue
	SpanWait    = memory.SpanWait
	SpanAttempt = memory.SpanAttempt
	// BulkRows is from how many rows on a command is a bulk.
	BulkRows = commit.BulkRows
	// ReceiptsKept is how long receipts of calls are kept at most.
	ReceiptsKept = memory.ReceiptsKept
)

// WithCall gives ctx the call that a command is made for.
func WithCall(ctx context.Context, c Call) context.Context { return commit.WithCall(ctx, c) }

// ByService gives the context of a request for jobs that the service makes for its own slots.
func ByService(ctx context.Context) context.Context { return deal.ByService(ctx) }

// Open opens the data file at path and starts the committer. Every live lease gets its full
// length again.
func Open(path string, opts Options) (*Engine, error) {
	c, err := commit.New(path, opts)
	if err != nil {
		return nil, err
	}
	e := over(c)
	upkeep.Opened(c)
	release := c.Memory.Retention.Hold() // until it is known whether an operation needs it
	c.Start(e.work())
	err = e.Operator.Resume()
	release()
	if err != nil {
		return nil, errors.Join(err, e.Close())
	}
	if err := e.Marker.Opened(context.Background()); err != nil {
		c.Log.Warn("the start of the service could not be noted; charts do not show it", "error", err)
	}
	e.Keeper.Start()
	e.Lookout.Start()
	return e, nil
}

// over puts the rooms over a committer together.
func over(c *commit.Committer) *Engine {
	reader := read.New(c.Store, c.Memory, c.Clock, c.SetAside)
	watchers := watch.New(reader, c.Quit)
	desk := command.New(c, reader)
	operator := bulk.New(c, reader, watchers)
	planner, keeper, lookout := plan.New(c, reader), backup.New(c, c.Version), lookout.New(c, reader)
	reader.Ask(read.Beside{RefusingSince: c.RefusingSince, DiskFull: desk.DiskFull, UnderWay: operator.UnderWay, BackupsWrong: keeper.BackupsWrong, Unkept: lookout.Unkept, MayRun: c.MayRun, Mails: c.Mails, Secrets: c.Secrets})
	return &Engine{
		Desk: desk, Dealer: deal.New(c, reader, desk, watchers), Operator: operator, Planner: planner,
		Setter: setup.New(c, operator, planner), Marker: mark.New(c), Follower: follow.New(c), Keeper: keeper, Compactor: compact.New(c), Register: session.New(c), Importer: transfer.New(c, desk.DiskFull), Receiver: hook.New(c, reader, desk), Exchange: call.New(c), Herald: notice.New(c, reader), Lookout: lookout, Reader: reader, Watchers: watchers, c: c,
	}
}

// work is what happens beside the commands, in order.
func (e *Engine) work() commit.Work {
	return commit.Work{
		Timed: []commit.Timed{
			upkeep.Clock(), e.Dealer.LeaseEnds(), upkeep.Due(), plan.Fire(), upkeep.Late(), upkeep.Places(), follow.Walk(), upkeep.Sweep(), upkeep.Results(),
			after.Later(), upkeep.Awaited(), upkeep.Retention(), upkeep.Leftovers(), upkeep.History(), e.Dealer.Rates(), call.Probes(), e.Compactor.Slices(), e.Register.Over(),
		},
		Between:   []commit.Between{e.Keeper},
		Finally:   []func(*commit.Tx) error{letGo, notice.Tell, e.Dealer.Deal, letLateGo, notice.Tell, upkeep.Hasten},
		Listeners: []commit.Listener{e.Dealer, e.Watchers, e.Keeper},
	}
}

// letGo lets go what has waited for jobs that have ended in the transaction: runs of their schedules,
// and jobs that wait for others. Each may end more.
func letGo(tx *commit.Tx) error {
	for len(tx.Schedules.Ended) > 0 || tx.Ties.Any() {
		if err := plan.LetRunsGo(tx); err != nil {
			return err
		}
		if err := after.LetGo(tx); err != nil {
			return err
		}
	}
	return nil
}

// letLateGo lets that go which the deal has freed, by skipping what was too late; it is dealt next.
func letLateGo(tx *commit.Tx) error {
	if len(tx.Schedules.Ended) > 0 || tx.Ties.Ends() {
		tx.Again()
	}
	return letGo(tx)
}

// Commits tells how the transactions since the start were spread: by how many commands they held,
// how many seconds they were applied, and how many their commits waited for the disk.
func (e *Engine) Commits() (size, work, disk tally.Histogram) { return e.c.Commits() }

// Writing tells what was written since the start, and how long that took.
func (e *Engine) Writing() api.Writing { return e.c.Writing() }

// Close stops taking commands, answers those that wait and closes the file.
func (e *Engine) Close() error {
	return e.c.Close(func() {
		e.Operator.Wait()
		e.Keeper.Wait()
		e.Lookout.Wait()
	})
}

// Ready tells whether the engine can read its file, takes writes, and does its timed work.
// It waits for no write.
func (e *Engine) Ready(ctx context.Context) error { return e.c.Ready(ctx) }

// Refusing tells whether the disk takes no writes.
func (e *Engine) Refusing() bool { return e.c.RefusingSince() != 0 }

// MaxPayload is the longest payload of a job, in bytes.
func (e *Engine) MaxPayload() int { return e.c.MaxPayload }

// StoreID names the data file, through all its moves and copies.
func (e *Engine) StoreID() string { return e.c.Memory.Facts.StoreID }

// SetAside lists the timed work that has failed and waits to be tried again.
func (e *Engine) SetAside() []api.SetAside { return e.c.SetAside() }
