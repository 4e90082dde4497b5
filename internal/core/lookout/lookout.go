// Package lookout keeps an eye on the service: every ten seconds it holds the rules of alerts against what is
// seen, keeps the alerts, and has somebody told. What is wrong, and what is said of it, is for the package
// alert to say.
//
// While the disk takes no writes its alerts are kept in the memory alone, and are told without a job.
package lookout

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/alert"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/notice"
	"humblemule.example/internal/core/read"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/nearest"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

// Lookout keeps an eye on the service. Its methods may be called from any goroutine.
type Lookout struct {
	c    *commit.Committer
	read *read.Reader
	// began is when it began, by the monotonic clock.
	began time.Time
	past  past

	// mu guards what follows.
	mu   sync.Mutex
	book alert.Book
	// unkept are alerts that are not in the file, since the disk takes no writes.
	unkept []api.Alert
	direct func(context.Context, api.Notice) error
	// took is how long it took last to hold the rules against what was seen.
	took    time.Duration
	running sync.WaitGroup
}

// New gives a lookout.
func New(c *commit.Committer, reader *read.Reader) *Lookout {
	return &Lookout{c: c, read: reader, began: time.Now()}
}

// TellBy has messages sent in a way while the disk takes no writes.
func (l *Lookout) TellBy(direct func(context.Context, api.Notice) error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.direct = direct
}

// Start begins to look.
func (l *Lookout) Start() {
	l.running.Go(func() {
		tick := time.NewTicker(l.c.LookEvery)
		defer tick.Stop()
		for {
			select {
			case <-tick.C:
			case <-l.c.Quit:
				return
			}
			if err := l.look(context.Background()); err != nil && !errors.Is(err, commit.ErrStopping) {
				l.c.Log.Warn("alerts could not be looked at; it is done again", "in", l.c.LookEvery, "error", err)
			}
		}
	})
}

// Wait waits until it looks no more, after the committer has been told to quit.
func (l *Lookout) Wait() { l.running.Wait() }

// Unkept are alerts that are not in the file, since the disk takes no writes.
func (l *Lookout) Unkept() []api.Alert {
	l.mu.Lock()
	defer l.mu.Unlock()
	return slices.Clone(l.unkept)
}

func (l *Lookout) look(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	seen, err := l.read.Seen(ctx)
	if err != nil {
		return err
	}
	up := time.Since(l.began)
	seen.Tasks, seen.Refusing = l.past.growth(l.read, up)
	rules := l.read.AlertRules()
	began := time.Now()
	readings := alert.Read(&seen, rules)
	l.mu.Lock()
	l.took = time.Since(began)
	l.mu.Unlock()
	if l.c.RefusingSince() != 0 {
		return l.withoutDisk(ctx, readings, rules, up)
	}
	var next alert.Book
	err = l.c.Do(ctx, func(v *commit.View) (commit.Write, error) {
		l.mu.Lock()
		defer l.mu.Unlock()
		var changed []api.Alert
		alerts := alert.Over(v.Alerts.All(), l.unkept)
		next, changed = alert.Step(l.book, alerts, readings, up, v.Now)
		changed = numbered(alert.Over(l.unkept, changed), v.Alerts.Last())
		said := alert.Say(alert.Over(v.Alerts.All(), changed), rules, v.Now)
		changed = alert.Over(changed, said.Alerts)
		old := outlived(alerts, v.Now)
		if len(changed)+len(old) == 0 {
			return nil, nil
		}
		channels := channelsOf(v)
		return func(tx *commit.Tx) error {
			for _, a := range changed {
				if err := tx.Alerts.Put(a); err != nil {
					return err
				}
			}
			for _, id := range old {
				if err := tx.Alerts.Drop(id); err != nil {
					return err
				}
			}
			return send(tx, said.To, channels)
		}, nil
	})
	if err == nil {
		l.mu.Lock()
		l.book, l.unkept = next, nil
		l.mu.Unlock()
	}
	return err
}

// Took is how long it took last to hold the rules against what was seen.
func (l *Lookout) Took() time.Duration {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.took
}

// numbered gives alerts that have no number the next ones.
func numbered(alerts []api.Alert, last int64) []api.Alert {
	for i := range alerts {
		if alerts[i].ID == 0 {
			last++
			alerts[i].ID = last
		}
	}
	return alerts
}

// mostOver is how many alerts are kept that are over.
const mostOver = 1000

// outlived are the numbers of alerts that have been over for as long as they are kept, or before as many others
// as are kept.
func outlived(alerts []api.Alert, now job.Time) (all []int64) {
	over := 0
	for _, a := range slices.Backward(alerts) {
		if a.OverAt == 0 || a.ID == 0 {
			continue
		}
		if over++; over > mostOver || now.Sub(a.OverAt) > alert.Kept {
			all = append(all, a.ID)
		}
	}
	slices.Sort(all)
	if len(all) > 0 && all[len(all)-1] == alerts[len(alerts)-1].ID {
		all = all[:len(all)-1] // by which numbers are given
	}
	return all
}

// channelsOf are the ways in which somebody is told, by name.
func channelsOf(v *commit.View) map[string]api.AlertChannel {
	if set := v.Settings.Owned().Alerts; set != nil {
		return set.Channels
	}
	return nil
}

// send writes the messages, each a job.
func send(tx *commit.Tx, to map[string]*api.AlertsTold, channels map[string]api.AlertChannel) error {
	for _, name := range slices.Sorted(maps.Keys(to)) {
		ch, there := channels[name]
		if !there {
			continue
		}
		event := eventOf(tx.Facts.StoreID, fmt.Sprint(tx.Facts.NextJob.Get()), to[name], tx.Now)
		if err := notice.Send(tx, "", message(&ch, event)); err != nil {
			return err
		}
	}
	return nil
}

// message is what is sent by a channel.
func message(ch *api.AlertChannel, event api.CloudEvent) api.Notice {
	return api.Notice{Endpoint: ch.Endpoint, Call: ch.Call, Mail: ch.Mail, Command: ch.Command, Event: event}
}

// eventOf is what is told of alerts.
func eventOf(storeID, number string, told *api.AlertsTold, now job.Time) api.CloudEvent {
	return notice.EventFrom(storeID, number+"-alerts", api.TypeAlerts, alert.Subject(told), now, told)
}

// withoutDisk does the same while the disk takes no writes.
func (l *Lookout) withoutDisk(ctx context.Context, readings []alert.Reading, rules map[string]api.AlertRule, up time.Duration) error {
	now := l.c.Now()
	l.c.Memory.RLock()
	kept, set := l.c.Memory.Alerts.AllKept(), l.c.Memory.Settings.KeptOwned().Alerts
	l.c.Memory.RUnlock()
	l.mu.Lock()
	alerts := alert.Over(kept, l.unkept)
	next, changed := alert.Step(l.book, alerts, readings, up, now)
	l.book, l.unkept = next, alert.Over(l.unkept, changed)
	said := alert.Say(alert.Over(alerts, changed), rules, now)
	direct := l.direct
	l.mu.Unlock()
	if len(said.To) == 0 || direct == nil {
		return nil
	}
	told, failed := false, error(nil)
	for name, message := range said.To {
		ch := set.Channels[name]
		if err := direct(ctx, messageNow(&ch, l.c.Memory.Facts.StoreID, message, now)); err != nil {
			failed = fmt.Errorf("channel %s: %w", name, err)
		} else {
			told = true
		}
	}
	if told {
		l.mu.Lock()
		l.unkept = alert.Over(l.unkept, said.Alerts)
		l.mu.Unlock()
	}
	return failed
}

func messageNow(ch *api.AlertChannel, storeID string, told *api.AlertsTold, now job.Time) api.Notice {
	return message(ch, eventOf(storeID, fmt.Sprint("t", int64(now)), told, now))
}

// past is what was counted within the last ten minutes, a sample a minute.
type past struct {
	samples []sample
}

type sample struct {
	at time.Duration
	read.Counted
}

const (
	// within is how long one look may take.
	within      = 10 * time.Second
	sampleEvery = time.Minute
)

// growth is how what is counted has grown within the last ten minutes.
func (p *past) growth(rd *read.Reader, up time.Duration) (tasks []alert.Failing, hooks []alert.Refusing) {
	now := sample{up, rd.Counted()}
	for len(p.samples) > 1 && up-p.samples[1].at >= alert.Window {
		p.samples = p.samples[1:]
	}
	if n := len(p.samples); n == 0 || up-p.samples[n-1].at >= sampleEvery {
		p.samples = append(p.samples, now)
	}
	first := p.samples[0]
	for _, name := range slices.Sorted(maps.Keys(now.Tasks)) {
		is, was := now.Tasks[name], first.Tasks[name]
		if is.Failed <= was.Failed || is.Ended <= was.Ended {
			continue
		}
		f := alert.Failing{Task: name, Failed: int64(is.Failed - was.Failed), Ended: int64(is.Ended - was.Ended)}
		if usual := rd.UsualFailing(name); usual != nil {
			f.UsuallyFailed, f.UsuallyDone = usual.Failed, usual.Started
		}
		tasks = append(tasks, f)
	}
	for _, name := range slices.Sorted(maps.Keys(now.Hooks)) {
		is, was := now.Hooks[name], first.Hooks[name]
		r := alert.Refusing{Hook: name, Refused: is.NumRefused() - was.NumRefused()}
		most := int64(0)
		for why, n := range is.Refused {
			if n -= was.Refused[why]; n > most || n == most && why < r.Why {
				most, r.Why = n, why
			}
		}
		if r.Refused > 0 {
			hooks = append(hooks, r)
		}
	}
	return tasks, hooks
}

// SeeAlert notes that somebody has seen an alert, and what they say of it. A new cause is over then.
func (l *Lookout) SeeAlert(ctx context.Context, id int64, note string) error {
	if len(note) > api.MaxAlertNote {
		return job.Wrong("the alert stays as it was", []job.FieldError{{Field: "note", Message: fmt.Sprintf("is longer than %d bytes", api.MaxAlertNote)}})
	}
	by := commit.CallOf(ctx).Principal
	return l.act(ctx, "see_alert", id, map[string]any{"alert": id, "note": note}, func(a *api.Alert, now job.Time) {
		a.SeenBy, a.SeenAt, a.Note = by, now, note
		if a.Kind == api.FactNewCause {
			a.OverAt = now
		}
	})
}

// MuteAlert has nobody told of an alert for a while; zero ends that.
func (l *Lookout) MuteAlert(ctx context.Context, id int64, span job.Duration) error {
	if span < 0 || span > api.MaxMute {
		return job.Wrong("the alert stays as it was", []job.FieldError{{Field: "for", Message: fmt.Sprintf("is %s; give 0s, which ends it, to %s", span, api.MaxMute)}})
	}
	by := commit.CallOf(ctx).Principal
	return l.act(ctx, "mute_alert", id, map[string]any{"alert": id, "for": span}, func(a *api.Alert, now job.Time) {
		if a.MutedUntil, a.MutedBy = now.Add(span.Go()), by; span == 0 {
			a.MutedUntil, a.MutedBy = 0, ""
		}
	})
}

// act does something to an alert that is not over.
func (l *Lookout) act(ctx context.Context, action string, id int64, detail any, do func(a *api.Alert, now job.Time)) error {
	if err := scope.Whole(ctx); err != nil {
		return err
	}
	return l.c.Record(ctx, action, 0, detail, func(v *commit.View) (commit.Act, error) {
		was := v.Alerts.Find(id)
		switch {
		case was == nil:
			return nil, read.NoAlert(id)
		case was.OverAt != 0:
			return nil, job.Fault(job.WrongState, "alert %d is over since %s; there is nothing left to do about it", id, was.OverAt)
		}
		return func(tx *commit.Tx, _ int64) error {
			a := *was
			do(&a, tx.Now)
			return tx.Alerts.Put(a)
		}, nil
	})
}

// TestAlerts sends a test by channels, all where none is named, and tells which job sends it by each.
func (l *Lookout) TestAlerts(ctx context.Context, names []string) (told api.AlertTest, err error) {
	if err := scope.Whole(ctx); err != nil {
		return told, err
	}
	call := commit.CallOf(ctx)
	told.Jobs = map[string]int64{}
	err = l.c.Do(ctx, func(v *commit.View) (commit.Write, error) {
		channels := channelsOf(v)
		if len(names) == 0 {
			names = slices.Sorted(maps.Keys(channels))
		}
		if len(names) == 0 {
			return nil, job.Fault(job.WrongState, "there is no channel; name one in the set-up, under alerts.channels")
		}
		for _, name := range names {
			ch, there := channels[name]
			if e := v.Endpoints.Find(ch.Endpoint); e != nil && e.Row.PausedAt != 0 {
				return nil, job.Fault(job.WrongState, "channel %s tells endpoint %s, which is paused; resume it first", name, ch.Endpoint)
			}
			if !there {
				return nil, job.Fault(job.NotFound, "there is no channel %q%s", name, sentence.Perhaps(nearest.To(name, slices.Sorted(maps.Keys(channels)))))
			}
		}
		r, err := v.Receipts.Find(call.ID())
		if err != nil {
			return nil, err
		}
		if r != nil {
			for i, name := range names[:min(len(names), len(r.IDs))] {
				told.Jobs[name] = r.IDs[i]
			}
			return nil, nil
		}
		return func(tx *commit.Tx) error {
			var ids []int64
			for _, name := range names {
				told.Jobs[name] = tx.Facts.NextJob.Get()
				ids = append(ids, told.Jobs[name])
				if err := send(tx, map[string]*api.AlertsTold{name: {Test: call.Principal}}, channels); err != nil {
					return err
				}
			}
			tx.Receipts.Note(call.ID(), ids...)
			return nil
		}, nil
	})
	return told, err
}
