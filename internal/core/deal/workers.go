package deal

import (
	"cmp"
	"context"
	"slices"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/command"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/watch"
	"humblemule.example/job"
)

// PutWorker registers a worker process, or what it tells anew about itself, and
// answers what is wanted of it.
func (de *Dealer) PutWorker(ctx context.Context, w api.Worker) (api.Wanted, error) {
	if err := job.Wrong("the worker was not registered", checkWorker(&w)); err != nil {
		return api.Wanted{}, err
	}
	if err := mayServe(scope.Of(ctx), w.Queues, w.Tasks); err != nil {
		return api.Wanted{}, err
	}
	if err := de.m.Workers.Presence.Put(w, commit.CallOf(ctx).Principal, de.c.Now()); err != nil {
		return api.Wanted{}, err
	}
	var unknown []api.Lease
	err := de.c.Do(ctx, commit.Unchecked(func(tx *commit.Tx) (err error) {
		if w.Holds != nil {
			if unknown, err = unknownTo(tx, w.ID, w.Holds); err != nil {
				return err
			}
		}
		_, err = tx.Workers.Write(w)
		return err
	}))
	de.watchers.Nudge(watch.Changes{Workers: true})
	want, _ := de.m.Workers.Presence.Wants(w.ID)
	return api.Wanted{Wanted: want, Leases: unknown}, err
}

// DeleteWorker says that a worker's process has ended: it is no longer listed, and the
// leases it still has are ended, uncounted.
func (de *Dealer) DeleteWorker(ctx context.Context, uid string) error {
	return de.signOff(ctx, uid, false)
}

// DeleteAnyWorker says it of a worker of somebody else. Its handlers may still run: jobs
// in lanes wait until their leases would have ended.
func (de *Dealer) DeleteAnyWorker(ctx context.Context, uid string) error {
	if _, err := de.read.Worker(ctx, uid); err != nil && !scope.Of(ctx).Whole() {
		return err
	}
	return de.signOff(ctx, uid, true)
}

// signOff takes a worker out of the book, and its leases back.
func (de *Dealer) signOff(ctx context.Context, uid string, anybodys bool) error {
	by := commit.CallOf(ctx).Principal
	own, err := de.m.Workers.Presence.SignOff(uid, by, anybodys)
	if err != nil && !anybodys {
		return err
	}
	err = de.c.Do(ctx, commit.Unchecked(func(tx *commit.Tx) error {
		if !own && !anybodys {
			return nil // whose it was is not known any more
		}
		for _, l := range tx.Leases.Of(uid) {
			if err := command.TakeBack(tx, l, "the worker was unregistered by "+by, own); err != nil {
				return err
			}
		}
		return nil
	}))
	de.watchers.Nudge(watch.Changes{Workers: true})
	return err
}

// AskWorker records what is wanted of a worker: to run, to drain or to leave. It
// outlives a restart of the service.
func (de *Dealer) AskWorker(ctx context.Context, uid string, want api.Want) (api.Worker, error) {
	w, err := de.read.Worker(ctx, uid)
	if err != nil {
		return w, err
	}
	stored := want
	if want == api.WantRun {
		stored = ""
	}
	detail := map[string]string{"worker": uid, "name": w.Name}
	err = de.c.Record(ctx, string(want), 0, detail, func(*commit.View) (commit.Act, error) {
		return func(tx *commit.Tx, _ int64) error {
			ref, err := tx.Workers.Know(w)
			if err != nil {
				return err
			}
			return tx.Workers.Ask(ref, stored)
		}, nil
	})
	if err != nil {
		return w, err
	}
	de.watchers.Nudge(watch.Changes{Workers: true})
	return de.read.Worker(ctx, uid)
}

// checkWorker answers what is wrong with what a worker tells of itself.
func checkWorker(w *api.Worker) []job.FieldError {
	wrong := checkLeaseRequest(&api.LeaseRequest{Worker: w.ID, Queues: w.Queues, Tasks: w.Tasks, Weights: w.Weights})
	for field, n := range map[string]int{"slots": w.Slots, "min_slots": w.MinSlots, "max_slots": w.MaxSlots, "ahead": w.Ahead} {
		if n < 0 || n > 100_000 {
			wrong = append(wrong, job.FieldError{Field: field, Message: "is outside 0 to 100000"})
		}
	}
	texts := map[string]string{"name": w.Name, "host": w.Host, "version": w.Version}
	if w.Resized != nil {
		texts["resized.why"] = w.Resized.Why
	}
	for field, text := range texts {
		if len(text) > job.MaxWordBytes {
			wrong = append(wrong, job.FieldError{Field: field, Message: "is longer than 200 bytes"})
		}
	}
	slices.SortFunc(wrong, func(a, b job.FieldError) int { return cmp.Compare(a.Field, b.Field) })
	return wrong
}

// Wanted is a worker's heartbeat. It answers at once when a running job is to be
// cancelled or when what is wanted of the worker is not what it does already,
// else after wait. doing is what the worker does; empty means to run.
func (de *Dealer) Wanted(ctx context.Context, uid string, doing api.Want, wait time.Duration) (api.Wanted, error) {
	if doing == "" {
		doing = api.WantRun
	}
	timer := time.NewTimer(min(wait, api.MaxWait.Go()))
	defer timer.Stop()
	for over := false; ; {
		wanted, more, err := de.m.Workers.Presence.Collect(uid, commit.CallOf(ctx).Principal, de.c.Now())
		if err != nil {
			return wanted, err
		}
		if over || wanted.Wanted != doing || len(wanted.Cancelled) > 0 {
			wanted.Waiting = de.waitingFor(uid)
			return wanted, nil
		}
		select {
		case <-more:
		case <-timer.C:
			over = true
		case <-ctx.Done():
			return api.Wanted{}, ctx.Err()
		case <-de.c.Quit:
			return api.Wanted{}, commit.ErrStopping
		}
	}
}

// waitingFor counts the jobs that are ready for a worker.
func (de *Dealer) waitingFor(uid string) int64 {
	return de.read.ReadyFor(de.m.Workers.Presence.Serves(uid))
}
