package commit

import (
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// View is a transaction as a command sees it while it checks: the memory's parts and the
// file as they stand, with what earlier commands of the batch have changed. Nothing can be
// changed by it; so a command that is refused has changed nothing.
type View struct {
	Queues, Tasks *memory.NamesView
	Settings      *memory.SettingsView
	Policies      *memory.PoliciesView
	Counts        *memory.CountsView
	Limits        *memory.LimitsView
	Leases        *memory.LeasesView
	Schedules     *memory.SchedulesView
	Receipts      *memory.ReceiptsView
	Workers       *memory.WorkersView
	Removals      *memory.RemovalsView
	Places        *memory.PlacesView
	Follows       *memory.FollowsView
	Imports       *memory.ImportsView
	Hooks         *memory.HooksView
	Hosts         *memory.HostsView
	Endpoints     *memory.EndpointsView
	Alerts        *memory.AlertsView
	Store         Sight
	// Now is when the transaction began, By who gives the command, and Scope what that may
	// see.
	Now   job.Time
	By    string
	Scope scope.Scope
	c     *Committer
}

// Sight is what a check may read of the file. What its methods do is told by [store.Store].
type Sight interface {
	Row(id int64) (*store.Row, error)
	Rows(ids []int64) (map[int64]*store.Row, error)
	EdgesOf(id int64) ([]store.Edge, error)
	Batch(id int64) (*store.Batch, error)
	NewestCalled(name string) (*store.Batch, error)
	OfRef(batch int64, ref string) (int64, error)
	Removed(id int64) (*store.Row, error)
	LoadPayload(r *store.Row) error
	OpenByKey(key string, task, other int64, unstarted bool) (*store.Row, error)
	RecentByKey(key string, task, other int64, after job.Time) (*store.Row, error)
	KeptKey(key string, task int64, after job.Time) (*store.Row, error)
	LaneHolder(queue int64, lane string) (int64, error)
	HasRemoved(queue, task int64) (bool, error)
	HasRun(schedule int64, at job.Time) (bool, error)
	ActiveOf(schedule, other int64) (int64, error)
	HeldOf(schedule, other int64) (*store.Row, error)
	StepsOf(id int64) ([]store.Step, error)
	Mark(id int64) (store.Mark, error)
	ImportedAs(number, id int64) (int64, error)
	DeliveryBy(mark []byte) (*store.Delivery, error)
}

// View is the transaction to be looked at.
func (tx *Tx) View() *View { return &tx.view }

// doneBy notes who gives what is applied next, and what that may see.
func (tx *Tx) doneBy(who string, in scope.Scope) {
	tx.By, tx.view.By, tx.view.Scope = who, who, in
}

// view looks at the memory's parts and the file in a transaction that begins now.
func (c *Committer) view(now job.Time) View {
	m := c.Memory
	return View{
		Queues: &m.Queues.NamesView, Tasks: &m.Tasks.NamesView, Settings: &m.Settings.SettingsView, Policies: &m.Policies.PoliciesView,
		Counts: &m.Counts.CountsView, Limits: &m.Limits.LimitsView, Leases: &m.Leases.LeasesView, Schedules: &m.Schedules.SchedulesView,
		Receipts: &m.Receipts.ReceiptsView, Workers: &m.Workers.WorkersView, Removals: &m.Removals.RemovalsView, Places: &m.Places.PlacesView,
		Follows: &m.Follows.FollowsView, Imports: &m.Imports.ImportsView, Hooks: &m.Hooks.HooksView, Hosts: &m.Hosts.HostsView, Endpoints: &m.Endpoints.EndpointsView, Alerts: &m.Alerts.AlertsView,
		Store: c.Store, Now: now, c: c,
	}
}

// Sees tells whether a job is in the scope of whoever gives the command.
func (v *View) Sees(r *store.Row) bool {
	return v.Scope.Sees(v.Queues.Name(r.Queue), v.Tasks.Name(r.Task))
}

// Options are those that the service was started with.
func (v *View) Options() *Options { return &v.c.Options }

// Check is the first half of a command: it looks, and gives what is to be changed; nil for
// nothing. The error it answers, a *job.Problem, refuses the command.
type Check func(v *View) (Write, error)

// Write is the second half: it changes what the check has found may be changed. Its errors
// are faults; to refuse is too late.
type Write func(tx *Tx) error

// Unchecked is a command that has nothing to check.
func Unchecked(write Write) Check {
	return func(*View) (Write, error) { return write, nil }
}

// Act is a write by an operator's action, which has a number.
type Act func(tx *Tx, action int64) error
