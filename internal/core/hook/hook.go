// Package hook takes webhooks in: what is delivered to a hook becomes a job, once for each id that its
// sender gives. Whether a delivery is from whom it should be is for the caller to see.
//
// It keeps nothing; hooks are a part of the memory.
package hook

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"humblemule.example/api"
	"humblemule.example/internal/check"
	"humblemule.example/internal/core/command"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/read"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/text"
	"humblemule.example/job"
)

// Receiver takes webhooks in. Its methods may be called from any goroutine.
type Receiver struct {
	c    *commit.Committer
	read *read.Reader
	desk *command.Desk
}

// New gives a receiver.
func New(c *commit.Committer, reader *read.Reader, desk *command.Desk) *Receiver {
	return &Receiver{c, reader, desk}
}

// CheckHook answers what is wrong with a hook of a name, and which of its secrets it may not use.
func CheckHook(name string, h *api.Hook, secrets commit.Secrets) []job.FieldError {
	wrong := append(check.Name("name", name), h.Check()...)
	for i, s := range h.Proof.Secrets {
		if err := secrets.ForHook(s, name); err != nil {
			wrong = append(wrong, job.FieldError{Field: fmt.Sprintf("proof.secrets[%d]", i), Message: err.Error()})
		}
	}
	return wrong
}

// SetHook makes a hook what is given, new or not. The same again changes nothing.
func (rc *Receiver) SetHook(ctx context.Context, name string, given api.Hook) error {
	given.Name = ""
	if err := job.Wrong("the hook stays as it was", CheckHook(name, &given, rc.c.Secrets)); err != nil {
		return err
	}
	detail := map[string]any{"hook": name, "after": given}
	err := rc.c.Record(ctx, "set_hook", 0, detail, func(v *commit.View) (commit.Act, error) {
		if err := mayHook(ctx, v, name, &given); err != nil {
			return nil, err
		}
		if v.Settings.MakesCalls(v.Tasks.ID(given.Task)) {
			return nil, job.Wrong("the hook stays as it was", []job.FieldError{{Field: "task", Message: fmt.Sprintf("task %s makes calls, which the jobs of a hook are not; give another task, whose handler calls", given.Task)}})
		}
		was := v.Hooks.Find(name)
		if was != nil {
			detail["before"] = was.Is
		} else if v.Hooks.Len() >= api.MaxHooks {
			return nil, job.Fault(job.WrongState, "there are %d hooks, the most that are kept; delete one first", api.MaxHooks)
		}
		write, err := SetHook(v, name, given)
		if err == nil && write == nil {
			err = errSame
		}
		return func(tx *commit.Tx, _ int64) error { return write(tx) }, err
	})
	if errors.Is(err, errSame) {
		return nil
	}
	return err
}

// errSame ends a command that changes nothing, and leaves no action behind.
var errSame = job.Fault(job.Invalid, "nothing differs")

// mayHook refuses a change of a hook whose jobs are not in the scope of whoever gives the command, or for
// which the condition of the call does not hold.
func mayHook(ctx context.Context, v *commit.View, name string, given *api.Hook) error {
	was, version := v.Hooks.Find(name), int64(0)
	if was != nil {
		version = was.Row.Version
		if err := v.Scope.Refuses(command.QueueFor(v, was.Is.Queue, was.Is.Task), was.Is.Task); err != nil {
			return err
		}
	}
	if given != nil {
		if err := v.Scope.Refuses(command.QueueFor(v, given.Queue, given.Task), given.Task); err != nil {
			return err
		}
	}
	return commit.CallOf(ctx).If.Check("hook "+name, was != nil, version)
}

// SetHook makes a hook what is given; what it gives is nil where that is what it is. Whether there is room
// for one more is for the caller to see.
func SetHook(v *commit.View, name string, given api.Hook) (commit.Write, error) {
	given.Name = ""
	body, err := json.Marshal(given)
	if err != nil {
		return nil, err
	}
	row := store.Hook{Name: name, MadeAt: v.Now}
	if old := v.Hooks.Find(name); old != nil {
		if row = old.Row; row.Body == string(body) {
			return nil, nil
		}
	}
	row.Body, row.Version = string(body), row.Version+1
	return func(tx *commit.Tx) error { return tx.Hooks.Put(&memory.Hook{Row: row, Is: given}) }, nil
}

// DeleteHook deletes a hook. Its jobs stay, and its deliveries stay known, should it come back.
func (rc *Receiver) DeleteHook(ctx context.Context, name string) error {
	if err := scope.Whole(ctx); err != nil {
		return err
	}
	return rc.c.Record(ctx, "delete_hook", 0, map[string]any{"hook": name}, func(v *commit.View) (commit.Act, error) {
		if err := mayHook(ctx, v, name, nil); err != nil {
			return nil, err
		}
		if v.Hooks.Find(name) == nil {
			return nil, read.NoHook(name)
		}
		return func(tx *commit.Tx, _ int64) error { return tx.Hooks.Delete(name) }, nil
	})
}

// Principal is who enqueues the jobs of a hook.
func Principal(name string) string { return "hook:" + name }

// Receive takes a delivery in. One that is known already changes nothing but its counts, and is answered with
// the job that it became.
func (rc *Receiver) Receive(ctx context.Context, name string, a Arrived) (api.Received, error) {
	h := rc.read.KeptHook(name)
	if h == nil {
		return api.Received{}, read.NoHook(name)
	}
	d, err := shape(name, &h.Is, &a, rc.c.MaxPayload)
	if err != nil {
		return api.Received{}, err
	}
	return rc.take(commit.WithCall(ctx, commit.Call{Principal: Principal(name)}), name, d)
}

// take takes in what a delivery is to become, unless it is known already.
func (rc *Receiver) take(ctx context.Context, name string, d *delivery) (told api.Received, err error) {
	n, err := command.Prepare(&d.spec)
	if err != nil {
		return told, err
	}
	return told, rc.c.Do(ctx, func(v *commit.View) (commit.Write, error) {
		if v.Hooks.Find(name) == nil {
			return nil, read.NoHook(name)
		}
		known, err := knownAs(v, d)
		switch {
		case err != nil:
			return nil, err
		case known != nil && known.At < v.Now.Add(-api.HookRemembers.Go()):
			d.old = known.ID
		case known != nil:
			told = api.Received{Job: known.Job, Repeated: true, Differs: !slices.Equal(known.Body, d.body)}
			return repeat(name, known, told.Differs), nil
		}
		if err := rc.desk.CanReceive(v, n); err != nil {
			return nil, err
		}
		return func(tx *commit.Tx) (err error) {
			told, err = insert(tx, name, d, n)
			return err
		}, nil
	})
}

// knownAs finds the earlier delivery with the same id, as long as it was not swept.
func knownAs(v *commit.View, d *delivery) (*store.Delivery, error) {
	d.old = 0
	if d.mark == nil {
		return nil, nil
	}
	return v.Store.DeliveryBy(d.mark)
}

func repeat(name string, known *store.Delivery, differs bool) commit.Write {
	return func(tx *commit.Tx) error {
		n := tx.Hooks.Count(name)
		n.Repeated++
		if differs {
			n.Differing++
		}
		return tx.Store.RepeatDelivery(known.ID, differs, tx.Now)
	}
}

func insert(tx *commit.Tx, name string, d *delivery, n *command.NewJob) (told api.Received, err error) {
	if d.old != 0 {
		if err := tx.Store.ForgetDelivery(d.old); err != nil {
			return told, err
		}
	}
	if err := command.Insert(tx, n); err != nil {
		return told, err
	}
	count := tx.Hooks.Count(name)
	count.Taken++
	if d.mark == nil && d.wantsID {
		count.WithoutID++
	}
	count.LastAt = tx.Now
	told.Job = n.Row.ID
	tx.Store.AddDelivery(&store.Delivery{Hook: name, At: tx.Now, Job: n.Row.ID, Sender: d.sender, Mark: d.mark, Body: d.body})
	return told, nil
}

// SendAgain makes another job of a delivery, as the hook is set now, of the payload that its job has.
func (rc *Receiver) SendAgain(ctx context.Context, name string, number int64) (told api.Received, err error) {
	if err := scope.Whole(ctx); err != nil {
		return told, err
	}
	h := rc.read.KeptHook(name)
	if h == nil {
		return told, read.NoHook(name)
	}
	was, err := rc.c.Store.DeliveryOf(ctx, name, number)
	if err == nil && was == nil {
		err = job.Fault(job.NotFound, "hook %s has no delivery %d", name, number)
	}
	if err != nil {
		return told, err
	}
	d := &delivery{spec: h.Is.Spec(), sender: was.Sender, body: was.Body}
	d.spec.Labels, d.spec.Key = labelled(name), was.Sender
	n, err := command.Prepare(&d.spec)
	if err != nil {
		return told, err
	}
	call := commit.CallOf(ctx)
	return told, rc.c.Do(ctx, func(v *commit.View) (commit.Write, error) {
		r, err := v.Receipts.Find(call.ID())
		if r != nil {
			told.Job = r.IDs[0]
		}
		if r != nil || err != nil {
			return nil, err
		}
		if err := rc.canSendAgain(ctx, v, name, was.Job, n); err != nil {
			return nil, err
		}
		return func(tx *commit.Tx) (err error) {
			if told, err = insert(tx, name, d, n); err != nil {
				return err
			}
			tx.Receipts.Note(call.ID(), told.Job)
			words, err := json.Marshal(map[string]any{"hook": name, "delivery": number})
			if err == nil {
				_, err = tx.Store.InsertAction(tx.Now, call.Principal, "send_again", told.Job, string(words))
			}
			return err
		}, nil
	})
}

// canSendAgain gives a new job what the one has that a delivery became, or says why it cannot be taken in.
func (rc *Receiver) canSendAgain(ctx context.Context, v *commit.View, name string, id int64, n *command.NewJob) error {
	if err := mayHook(ctx, v, name, nil); err != nil {
		return err
	}
	row, err := v.Store.Row(id)
	if err == nil && row == nil {
		err = job.Fault(job.WrongState, "job %d, which the delivery became, is no longer kept, nor is its payload; have the sender send it again", id)
	}
	if err == nil {
		err = v.Store.LoadPayload(row)
	}
	if err != nil {
		return err
	}
	n.Row.Payload, n.Row.PayloadBytes, n.Row.Owner, n.Row.Lane = row.Payload, row.PayloadBytes, row.Owner, row.Lane
	return rc.desk.CanReceive(v, n)
}

// NoteRefusals counts deliveries that were refused, by hook.
func (rc *Receiver) NoteRefusals(ctx context.Context, all map[string]*api.HookCounts) error {
	return rc.c.Do(ctx, func(*commit.View) (commit.Write, error) {
		return func(tx *commit.Tx) error {
			for name, later := range all {
				if n := tx.Hooks.Count(name); n != nil {
					*n = n.With(later)
				}
			}
			return nil
		}, nil
	})
}

// sumOf is a short hash of a body.
func sumOf(body []byte) []byte {
	sum := sha256.Sum256(body)
	return sum[:8]
}

// markOf is what a delivery is known by.
func markOf(name, id string) []byte {
	sum := sha256.Sum256([]byte(name + "\x00" + id))
	return sum[:16]
}

// shortened is an id of a sender as it is shown, and as the key of its job.
func shortened(id string) string { return text.Cut(text.Visible(id), job.MaxWordBytes) }
