package notice

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/command"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/memory"
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

// mail notes what is told by mail; it is written once for the whole transaction.
func mail(tx *commit.Tx, owner string, n api.Notice) {
	if tx.Endpoints.Mails == nil {
		tx.Endpoints.Mails = map[string][]memory.MailTold{}
	}
	key := letterKey(owner, n.Mail)
	tx.Endpoints.Mails[key] = append(tx.Endpoints.Mails[key], memory.MailTold{Owner: owner, Notice: n})
}

// writeMails adds what is told by mail to letters to the same people that have not gone out, or begins them.
func writeMails(tx *commit.Tx) error {
	if len(tx.Endpoints.Mails) == 0 {
		return nil // as in nearly all transactions, which allocate nothing for it
	}
	for _, key := range slices.Sorted(maps.Keys(tx.Endpoints.Mails)) {
		if err := writeLetter(tx, key, tx.Endpoints.Mails[key]); err != nil {
			return err
		}
	}
	tx.Endpoints.Mails = nil
	return nil
}

func writeLetter(tx *commit.Tx, key string, told []memory.MailTold) error {
	begun, err := tx.Store.OpenByKey(key, tx.Tasks.ID(job.TaskMail), 0, true)
	if err != nil {
		return err
	}
	if begun != nil && begun.State == job.Scheduled {
		if err := tx.Store.LoadPayload(begun); err != nil {
			return err
		}
		var n api.Notice
		if err := json.Unmarshal(begun.Payload, &n); err != nil {
			return fmt.Errorf("mail %d: %w", begun.ID, err)
		}
		begun.Payload = job.JSON(holding(n, told))
		begun.PayloadBytes = len(begun.Payload)
		return tx.Store.Patch(begun)
	}
	n := holding(told[0].Notice, told[1:])
	made, err := command.Prepare(&job.Spec{Task: job.TaskMail, Queue: job.NoticeQueue, Owner: told[0].Owner, Key: key, Delay: job.For(gathersFor), Payload: job.JSON(n)})
	if err != nil {
		return err
	}
	return command.Insert(tx, made)
}

// holding is a letter with more in it, as far as it holds that.
func holding(n api.Notice, more []memory.MailTold) api.Notice {
	size := len(job.JSON(n))
	for _, m := range more {
		if size += len(m.Event.Data); len(n.More) >= mostInLetter-1 || size > mostLetter {
			n.Beyond++
		} else {
			n.More = append(n.More, m.Event)
		}
	}
	return n
}
