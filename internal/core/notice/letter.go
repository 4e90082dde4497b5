package notice

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/command"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

const (
	// gathersFor is for how long what the same people are told is gathered into one mail.
	gathersFor = time.Minute
	// mostInLetter and mostLetter bound what a mail names; of the rest it says how many there are.
	mostInLetter = 50
	mostLetter   = 64 << 10
)

// letterKey is by what a mail that has not gone out is found: the people, and whom the jobs are for.
func letterKey(owner string, m *job.Mail) string {
	sum := sha256.Sum256(job.JSON([]any{owner, m}))
	return "letter " + hex.EncodeToString(sum[:16])
}

// write adds what a mail says to one to the same people that has not gone out, or begins one.
func write(tx *commit.Tx, owner string, n api.Notice) error {
	key := letterKey(owner, n.Mail)
	begun, err := tx.Store.OpenByKey(key, tx.Tasks.ID(job.TaskMail), 0, true)
	if err != nil {
		return err
	}
	if begun != nil && begun.State == job.Scheduled {
		return addTo(tx, begun, n.Event)
	}
	made, err := command.Prepare(&job.Spec{Task: job.TaskMail, Queue: job.NoticeQueue, Owner: owner, Key: key, Delay: job.For(gathersFor), Payload: job.JSON(n)})
	if err != nil {
		return err
	}
	return command.Insert(tx, made)
}

// addTo adds an event to a mail that has not gone out.
func addTo(tx *commit.Tx, r *store.Row, event api.CloudEvent) error {
	if err := tx.Store.LoadPayload(r); err != nil {
		return err
	}
	var n api.Notice
	if err := json.Unmarshal(r.Payload, &n); err != nil {
		return fmt.Errorf("mail %d: %w", r.ID, err)
	}
	if len(n.More) >= mostInLetter-1 || len(r.Payload) > mostLetter {
		n.Beyond++
	} else {
		n.More = append(n.More, event)
	}
	r.Payload = job.JSON(n)
	r.PayloadBytes = len(r.Payload)
	return tx.Store.Patch(r)
}
