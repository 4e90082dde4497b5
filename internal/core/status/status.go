// Package status puts in words how things stand: what needs somebody, the worst first, and
// what else is to be known. It is one function of what is seen, without state.
package status

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

// Standing is what is seen of the service.
type Standing struct {
	Now    job.Time
	Counts map[job.State]int64
	// RefusingSince is since when the disk takes no writes, 0 while it does; Disk says why jobs
	// are not taken in, where the disk is nearly full.
	RefusingSince job.Time
	Disk          string
	Queues        []api.Queue
	Untaken       []Untaken
	Typos         []Typo
	// Causes are those of dead jobs.
	Causes    []api.Cause
	Schedules []Schedule
	// Stuck are batches in which nothing goes on until somebody acts, the latest first.
	Stuck []api.Batch
	// Silent are hosts that give no answer to calls, Hooks those that can take no delivery, with why, and
	// Endpoints those that have paused themselves.
	Silent    []Silent
	Hooks     []Hook
	Endpoints []api.EndpointStatus
	// InDoubt is how many jobs have steps of which it is not known whether they are done; More
	// that there are more.
	InDoubt  int64
	More     bool
	SetAside []api.SetAside
	// Operations are those under way.
	Operations []api.Operation
	// Alerts are those that are not over.
	Alerts []api.Alert
	// Came and Finished are how many jobs did within the last hour.
	Came, Finished int64
}

// Untaken are ready jobs that no living worker takes: all of a queue, or those of a task in a
// queue that is served.
type Untaken struct {
	Queue, Task string
	Ready       int64
	Served      bool
	// Nearest is a task that is done there and perhaps meant.
	Nearest string
}

// Typo is a queue that is served and not there, with one that is perhaps meant.
type Typo struct{ Worker, Queue, Nearest string }

// Schedule is one whose latest runs have died, or whose next run is late.
type Schedule struct {
	Name     string
	Failed   int64
	LastDone job.Time
	LateBy   time.Duration
}

// Silent is a host that gives no answer to calls: since when, at how many tries, when it is tried next, and why.
type Silent struct {
	Host           string
	Since, ProbeAt job.Time
	Why            string
}

// Hook is one that can take no delivery, and why.
type Hook struct{ Name, Why string }

// What is told of a kind: so many, and then how many more.
const mostOfKind = 3

// newFor is how long a cause is new.
const newFor = 24 * time.Hour

// FewestFailed is how many runs of a schedule must have died in a row to be told, and LateBy how
// late one must be.
const (
	FewestFailed = 2
	LateBy       = time.Minute
)

// order is which fact comes first.
var order = []string{
	api.FactRefused, api.FactDisk, api.FactNoWorker, api.FactPaused, api.FactBehind, api.FactStuck, api.FactSilent, api.FactHook, api.FactEndpoint, api.FactNewCause, api.FactSchedule, api.FactInDoubt, api.FactSetAside, api.FactName,
	api.FactAlerts, api.FactOperation, api.FactFine, api.FactDead,
}

// Facts tells how things stand, the worst first.
func Facts(s *Standing) []api.Fact {
	all := slices.Concat(s.trouble(), s.untaken(), s.paused(), s.behind(), s.stuck(), s.outside(), s.causes(), s.schedules(), s.doubts(), s.aside(), s.typos(), s.alerts(), s.operations())
	if !slices.ContainsFunc(all, func(f api.Fact) bool { return f.Wrong }) {
		all = append(all, s.fine())
	}
	slices.SortStableFunc(all, func(a, b api.Fact) int { return cmp.Compare(slices.Index(order, a.Kind), slices.Index(order, b.Kind)) })
	return all
}

// few gives the facts of a kind, and one that tells of those beyond as many as are told: of one, or
// of more.
func few[T any](things []T, tell func(T) api.Fact, oneMore, more, command string) (all []api.Fact) {
	for i, t := range things {
		f := tell(t)
		if i == mostOfKind {
			n := int64(len(things) - i)
			return append(all, api.Fact{Kind: f.Kind, Wrong: f.Wrong, Number: n, State: f.State, Text: fmt.Sprintf(sentence.Plural(n, oneMore, more), sentence.Grouped(n)), Command: command})
		}
		all = append(all, f)
	}
	return all
}

func (s *Standing) trouble() (all []api.Fact) {
	if s.RefusingSince != 0 {
		all = append(all, OfRefused(s.RefusingSince))
	}
	if s.Disk != "" {
		all = append(all, OfDisk(s.Disk))
	}
	return all
}

// OfRefused tells that the disk takes no writes.
func OfRefused(since job.Time) api.Fact {
	return api.Fact{Kind: api.FactRefused, Wrong: true, Text: "The disk has taken no writes since " + since.String() + ".", Detail: "Nothing that was acknowledged is lost; the service goes on by itself when the disk does.", Act: "Check the disk", Command: "hmule check"}
}

// OfDisk tells why jobs are not taken in.
func OfDisk(why string) api.Fact {
	return api.Fact{Kind: api.FactDisk, Wrong: true, Text: strings.ToUpper(why[:1]) + why[1:] + ".", Act: "Free some space", Command: "hmule check"}
}

// outside tells of what goes in and out.
func (s *Standing) outside() []api.Fact {
	return slices.Concat(
		few(s.Silent, OfSilent, "%s more host gives no answer.", "%s more hosts give no answer.", "hmule check"),
		few(s.Hooks, OfHook, "%s more hook refuses every delivery.", "%s more hooks refuse every delivery.", "hmule hook list"),
		few(s.Endpoints, OfEndpoint, "%s more endpoint has paused itself.", "%s more endpoints have paused themselves.", "hmule endpoint list"))
}

// OfSilent tells of a host that gives no answer.
func OfSilent(h Silent) api.Fact {
	return api.Fact{Kind: api.FactSilent, Wrong: true, Text: Answerless(&h), Detail: "Its jobs are held, and one at a time tries it. The last: " + strings.TrimSuffix(h.Why, ".") + ".", Act: "Open jobs", Command: "hmule job list --state held"}
}

// OfHook tells of a hook that can take no delivery.
func OfHook(h Hook) api.Fact {
	return api.Fact{Kind: api.FactHook, Wrong: true, Hook: h.Name, Text: "Hook " + h.Name + " refuses every delivery: " + h.Why + ".", Act: "Open hooks", Command: "hmule hook show " + h.Name}
}

// OfEndpoint tells of an endpoint that has paused itself.
func OfEndpoint(e api.EndpointStatus) api.Fact {
	return api.Fact{Kind: api.FactEndpoint, Wrong: true, Endpoint: e.Name, Number: e.Missed, Text: Resting(&e), Act: "Open endpoints", Command: "hmule endpoint resume " + e.Name}
}

// Answerless says that a host gives no answer.
func Answerless(h *Silent) string {
	return fmt.Sprintf("%s has given no answer since %s; it is tried again at %s.", h.Host, h.Since, h.ProbeAt)
}

// Resting says that an endpoint has paused itself.
func Resting(e *api.EndpointStatus) string {
	return fmt.Sprintf("Endpoint %s has paused itself: %s. %s not sent since.", e.Name, e.PausedWhy, sentence.Count(e.Missed, "message was", "messages were"))
}

func (s *Standing) untaken() []api.Fact {
	return few(s.Untaken, OfUntaken, "No worker takes the jobs of %s more group.", "No worker takes the jobs of %s more groups.", "hmule check")
}

// OfUntaken tells of ready jobs that no living worker takes.
func OfUntaken(u Untaken) api.Fact {
	return api.Fact{Kind: api.FactNoWorker, Wrong: true, Number: u.Ready, State: job.Ready, Queue: u.Queue, Task: u.Task, Text: u.Say(), Act: "Open queue", Command: "hmule worker list"}
}

// Say says that no worker takes the jobs.
func (u *Untaken) Say() string {
	what := sentence.Count(u.Ready, "job is", "jobs are") + " ready and waiting"
	if u.Served {
		return fmt.Sprintf("No worker of queue %s does task %s%s: %s.", u.Queue, u.Task, sentence.Perhaps(u.Nearest), what)
	}
	return fmt.Sprintf("No worker serves queue %s: %s.", u.Queue, what)
}

// Paused says that a queue is paused.
func Paused(q *api.Queue) string {
	return fmt.Sprintf("Queue %s has been paused by %s since %s; none of its jobs starts.", q.Name, q.PausedBy, q.PausedAt)
}

func (s *Standing) paused() []api.Fact {
	return few(s.those(func(q *api.Queue) bool { return q.Paused && q.Counts[job.Ready] > 0 }), func(q *api.Queue) api.Fact {
		return api.Fact{Kind: api.FactPaused, Wrong: true, Number: q.Counts[job.Ready], State: job.Ready, Queue: q.Name, Text: Paused(q), Detail: sentence.Count(q.Counts[job.Ready], "job is", "jobs are") + " ready.", Act: "Resume queue", Command: "hmule queue resume " + q.Name}
	}, "%s more queue is paused.", "%s more queues are paused.", "hmule queue list")
}

// those are the queues for which a condition holds.
func (s *Standing) those(is func(*api.Queue) bool) (all []*api.Queue) {
	for i := range s.Queues {
		if is(&s.Queues[i]) {
			all = append(all, &s.Queues[i])
		}
	}
	return all
}

// slowAfter is how far off it must be that a queue is clear for it to be told.
const slowAfter = 15 * time.Minute

// Falls tells whether more jobs come to a queue than finish, so that more and more wait.
func Falls(q *api.Queue, now job.Time) bool {
	p := &q.Pace
	if q.Paused || p.Clear == nil || p.Binds == api.BoundByNobody || q.Counts[job.Ready]+q.Counts[job.Held] <= 2*int64(p.Slots) {
		return false
	}
	return p.Clear.Likely == 0 || p.Clear.Likely.Sub(now) > slowAfter
}

func (s *Standing) behind() []api.Fact {
	behind := s.those(func(q *api.Queue) bool { return Falls(q, s.Now) })
	slices.SortStableFunc(behind, func(a, b *api.Queue) int { return cmp.Compare(b.Counts[job.Ready], a.Counts[job.Ready]) })
	return few(behind, OfBehind, "%s more queue is behind.", "%s more queues are behind.", "hmule queue list")
}

// OfBehind tells of a queue to which more jobs come than finish.
func OfBehind(q *api.Queue) api.Fact {
	waiting := q.Counts[job.Ready] + q.Counts[job.Held]
	f := api.Fact{Kind: api.FactBehind, Wrong: true, Number: waiting, State: job.Ready, Queue: q.Name, Act: "Try other slots", Command: "hmule explain drain " + q.Name}
	p := &q.Pace
	if p.Clear.Likely == 0 {
		f.Text = fmt.Sprintf("Queue %s is falling behind: %.1f jobs come in per minute, %.1f can finish.", q.Name, p.Utilisation*p.CapacityPerMinute, p.CapacityPerMinute)
		f.Detail = fmt.Sprintf("%s waiting; never clear at this rate.", sentence.Count(waiting, "job is", "jobs are"))
	} else {
		f.Text = fmt.Sprintf("Queue %s is behind: %s waiting, clear by %s.", q.Name, sentence.Count(waiting, "job is", "jobs are"), p.Clear.Likely)
	}
	if q.OldestReadyMS > 0 {
		f.Detail = strings.TrimSpace(f.Detail + " The oldest has been ready for " + sentence.Roughly(time.Duration(q.OldestReadyMS)*time.Millisecond) + ".")
	}
	return f
}

func (s *Standing) causes() (all []api.Fact) {
	var fresh []*api.Cause
	known, dead := 0, int64(0)
	for i := range s.Causes {
		if c := &s.Causes[i]; IsNew(c, s.Now) {
			fresh = append(fresh, c)
		} else {
			known++
			dead += c.Count
		}
	}
	slices.SortStableFunc(fresh, func(a, b *api.Cause) int { return cmp.Compare(b.FirstAt, a.FirstAt) })
	all = few(fresh, OfCause, "%s more cause is new.", "%s more causes are new.", "hmule dead list")
	if known > 0 {
		all = append(all, api.Fact{Kind: api.FactDead, Number: dead, State: job.Dead, Text: fmt.Sprintf("%s of %s.", sentence.Count(dead, "dead letter", "dead letters"), sentence.Count(int64(known), "known cause", "known causes")), Act: "Open dead letters", Command: "hmule dead list"})
	}
	return all
}

// IsNew tells whether a cause is new.
func IsNew(c *api.Cause, now job.Time) bool { return c.FirstAt > now.Add(-newFor) }

// OfCause tells of a new cause.
func OfCause(c *api.Cause) api.Fact {
	return api.Fact{
		Kind: api.FactNewCause, Wrong: true, Number: c.Count, State: job.Dead, Cause: c.ID, Text: "New cause: " + TitleOf(c) + ".",
		Detail: fmt.Sprintf("%s%s since %s.", sentence.Count(c.Count, "dead letter", "dead letters"), where(c), c.FirstAt), Act: "Open cause", Command: fmt.Sprintf("hmule dead show %d", c.ID),
	}
}

// TitleOf is what a cause is called: its template, or its type where it has none.
func TitleOf(c *api.Cause) string {
	return strings.TrimRight(cmp.Or(c.Template, c.Type, "an error without a message"), ".")
}

// where says of which task, on which host and in which version all jobs of a cause have died.
func where(c *api.Cause) string {
	tasks, versions, hosts := map[string]bool{}, map[string]bool{}, map[string]bool{}
	for _, b := range c.By {
		tasks[b.Task], versions[b.Version], hosts[b.Host] = true, true, true
	}
	said := ""
	if len(tasks) == 1 {
		said = " of " + c.By[0].Task
	}
	var all []string
	if len(hosts) == 1 && c.By[0].Host != "" {
		all = append(all, "on host "+c.By[0].Host)
	}
	if len(versions) == 1 && c.By[0].Version != "" {
		all = append(all, "in version "+c.By[0].Version)
	}
	if len(all) > 0 {
		said += ", all " + strings.Join(all, ", ") + ","
	}
	return said
}

// Runs says what is wrong with the runs of a schedule.
func Runs(x *Schedule) string {
	if x.Failed < FewestFailed && x.LateBy > 0 {
		return fmt.Sprintf("Schedule %s is late: its next run was planned %s ago.", x.Name, sentence.Roughly(x.LateBy))
	}
	since := "no run was ever done"
	if x.LastDone != 0 {
		since = "it was last done at " + x.LastDone.String()
	}
	if x.Failed == 1 {
		return fmt.Sprintf("The last run of schedule %s failed; %s.", x.Name, since)
	}
	return fmt.Sprintf("The last %d runs of schedule %s failed; %s.", x.Failed, x.Name, since)
}

func (s *Standing) schedules() []api.Fact {
	return few(s.Schedules, OfSchedule, "%s more schedule fails or is late.", "%s more schedules fail or are late.", "hmule schedule list")
}

// OfSchedule tells of a schedule whose runs die, or that is late.
func OfSchedule(x Schedule) api.Fact {
	return api.Fact{Kind: api.FactSchedule, Wrong: true, Number: x.Failed, Schedule: x.Name, Text: Runs(&x), Act: "Open schedule", Command: "hmule schedule show " + x.Name}
}

// Stuck says that a batch is.
func Stuck(b *api.Batch) string {
	name := fmt.Sprintf("Batch %d", b.ID)
	if b.Name != "" {
		name += " (" + b.Name + ")"
	}
	return name + " is stuck."
}

func (s *Standing) stuck() []api.Fact {
	return few(s.Stuck, OfStuck, "%s more batch is stuck.", "%s more batches are stuck.", "hmule batch list --state stuck")
}

// OfStuck tells of a batch that is stuck.
func OfStuck(b api.Batch) api.Fact {
	return api.Fact{Kind: api.FactStuck, Wrong: true, Number: b.Counts[job.Held], Batch: b.ID, Text: Stuck(&b), Detail: b.Summary, Act: "Open batch", Command: fmt.Sprint("hmule batch show ", b.ID)}
}

func (s *Standing) doubts() []api.Fact {
	if s.InDoubt == 0 {
		return nil
	}
	return []api.Fact{OfDoubt(s.InDoubt, s.More)}
}

// OfDoubt tells how many jobs have steps in doubt, or that there are more.
func OfDoubt(n int64, more bool) api.Fact {
	jobs := sentence.Count(n, "job has", "jobs have")
	if more {
		jobs = "At least " + jobs
	}
	return api.Fact{Kind: api.FactInDoubt, Wrong: true, Number: n, Text: jobs + " steps that may or may not be done.", Detail: "Find out, then requeue them.", Act: "Open jobs", Command: "hmule job list --in-doubt"}
}

func (s *Standing) aside() []api.Fact {
	return few(s.SetAside, func(a api.SetAside) api.Fact {
		return api.Fact{Kind: api.FactSetAside, Wrong: true, Text: a.String(), Act: "Read the log", Command: "hmule check"}
	}, "%s more part of timed work is set aside.", "%s more parts of timed work are set aside.", "hmule check")
}

// Misspelt says that a worker serves a queue that is not there.
func Misspelt(t *Typo) string {
	return fmt.Sprintf("Worker %s serves queue %s, which has no jobs%s.", t.Worker, t.Queue, sentence.Perhaps(t.Nearest))
}

func (s *Standing) typos() []api.Fact {
	return few(s.Typos, func(t Typo) api.Fact {
		return api.Fact{Kind: api.FactName, Wrong: true, Queue: t.Nearest, Text: Misspelt(&t), Act: "Open workers", Command: "hmule worker list"}
	}, "%s more worker serves queues that have no jobs.", "%s more workers serve queues that have no jobs.", "hmule worker list")
}

// alerts tells how many are open, and how many of those nobody has seen.
func (s *Standing) alerts() []api.Fact {
	open, unseen, critical := int64(len(s.Alerts)), int64(0), int64(0)
	if open == 0 {
		return nil
	}
	for i := range s.Alerts {
		if a := &s.Alerts[i]; a.StateAt(s.Now) == api.AlertOpen {
			unseen++
			if a.Severity == api.SeverityCritical {
				critical++
			}
		}
	}
	f := api.Fact{Kind: api.FactAlerts, Wrong: unseen > 0, Number: open, Text: sentence.Count(open, "alert is open", "alerts are open"), Act: "Open alerts", Command: "hmule alert list"}
	switch {
	case unseen == 0:
		f.Text += ", which somebody has seen or muted."
	case unseen == open:
		f.Text += " that nobody has seen."
	default:
		f.Text += fmt.Sprintf(", %s of which nobody has seen.", sentence.Grouped(unseen))
	}
	if critical > 0 {
		f.Detail = sentence.Count(critical, "is critical.", "are critical.")
	}
	return []api.Fact{f}
}

// doing are what is being done to jobs, by the actions.
var doing = map[string]string{api.ActRequeue: "requeued", api.ActCancel: "cancelled", api.ActDiscard: "discarded", api.ActPatch: "edited", api.ActPurge: "removed", api.ActStartNow: "started"}

func (s *Standing) operations() []api.Fact {
	return few(s.Operations, func(o api.Operation) api.Fact {
		f := api.Fact{Kind: api.FactOperation, Number: o.Matched, Operation: o.ID, Act: "Watch", Command: fmt.Sprintf("hmule operation show %d", o.ID)}
		f.Text = fmt.Sprintf("%s being %s.", sentence.Count(o.Matched, "job is", "jobs are"), cmp.Or(doing[o.Action], o.Action))
		f.Detail = fmt.Sprintf("%s so far, by %s.", sentence.Grouped(o.Changed), o.By)
		if o.State == api.OpTrial {
			f.Text = fmt.Sprintf("%s on trial: %s follow if they are done.", sentence.Count(int64(len(o.TrialIDs)), "job is", "jobs are"), sentence.Count(o.Matched-int64(len(o.TrialIDs)), "other", "others"))
		}
		return f
	}, "%s more operation is under way.", "%s more operations are under way.", "hmule operation list")
}

// fine says that all is well, and how one knows.
func (s *Standing) fine() api.Fact {
	total, oldest := int64(0), int64(0)
	for _, n := range s.Counts {
		total += n
	}
	for i := range s.Queues {
		oldest = max(oldest, s.Queues[i].OldestReadyMS)
	}
	f := api.Fact{Kind: api.FactFine}
	switch {
	case total == 0 && s.Came == 0:
		f.Text = "No job has been enqueued yet."
	case s.Came+s.Finished == 0:
		f.Text = "All is well: no job came within the last hour, and nothing that is due waits for anybody."
	default:
		f.Text = fmt.Sprintf("All is well: %s came and %s finished within the last hour.", sentence.Count(s.Came, "job", "jobs"), sentence.Grouped(s.Finished))
	}
	if oldest > 0 {
		f.Detail = "The oldest ready job has waited " + sentence.Roughly(time.Duration(oldest)*time.Millisecond) + "."
	} else if total > 0 {
		f.Detail = "No job is ready and waiting."
	}
	return f
}
