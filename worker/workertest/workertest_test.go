package workertest_test

import (
	"context"
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"humblemule.example/job"
	"humblemule.example/worker"
	"humblemule.example/worker/workertest"
)

type charge struct {
	Ship  string `json:"ship"`
	Cents int    `json:"cents"`
}

// office is a pool as a program sets it up; it needs no service to be tested.
func office() *worker.Pool {
	pool := worker.New(nil, worker.Options{})
	worker.Handle(pool, "dues.charge", func(ctx context.Context, c charge) (string, error) {
		j := worker.Job(ctx)
		switch {
		case c.Cents == 0:
			return "", worker.Skip("nothing is due")
		case c.Cents < 0:
			return "", worker.GiveUp(errors.New("dues are never negative"))
		case j.Tries < 2:
			return "", worker.RetryIn(time.Minute, errors.New("the bank is closed"))
		case c.Ship == "ghost":
			<-ctx.Done()
			return "", context.Cause(ctx)
		}
		j.Progress(50, "booked")
		j.Log("booked %d cents for %s", c.Cents, c.Ship)
		return fmt.Sprint("receipt of ", c.Ship), errors.Join(j.Label("paid", "yes"), j.FollowUp(job.Spec{Task: "notice.publish", Payload: job.JSON(c.Ship)}))
	})
	worker.HandleMany(pool, "buoy.poll", worker.Many{Limit: 8, Gather: time.Hour}, func(_ context.Context, items []*worker.Item[string, int]) error {
		for _, i := range items {
			i.Done(len(i.In))
		}
		return nil
	})
	return pool
}

func TestRun(t *testing.T) {
	dues := func(ship string, cents int) job.Spec {
		return job.Spec{Task: "dues.charge", Payload: job.JSON(charge{ship, cents}), Timeout: job.Duration(20 * time.Millisecond)}
	}
	first := workertest.Run(t, office(), dues("heron", 1200))
	assert.Equal(t, job.OutcomeFailed, first.Outcome)
	assert.Equal(t, "the bank is closed", first.Error.Message)
	assert.Equal(t, job.Duration(time.Minute), first.Delay)

	again := workertest.Run(t, office(), dues("heron", 1200), workertest.Try(2), workertest.ID(42))
	var receipt string
	again.Result(&receipt)
	assert.Equal(t, "receipt of heron", receipt)
	assert.Equal(t, []string{"booked 1200 cents for heron"}, again.Log)
	assert.Equal(t, map[string]string{"paid": "yes"}, again.Labels)
	assert.Equal(t, &job.Progress{Percent: 50, Note: "booked"}, again.Progress)
	assert.Equal(t, "notice.publish", again.Enqueue[0].Task)

	assert.Equal(t, "nothing is due", workertest.Run(t, office(), dues("heron", 0)).ReasonText)
	assert.Equal(t, job.OutcomeGiveUp, workertest.Run(t, office(), dues("heron", -1)).Outcome)
	assert.Equal(t, "timeout", workertest.Run(t, office(), dues("ghost", 1), workertest.Try(2)).Error.Type)
	ended, cancel := context.WithCancelCause(t.Context())
	cancel(worker.ErrDraining)
	assert.Equal(t, job.OutcomeReleased, workertest.RunContext(ended, t, office(), dues("ghost", 1), workertest.Try(2)).Outcome)

	var n int
	workertest.Run(t, office(), job.Spec{Task: "buoy.poll", Payload: job.JSON("bar-head")}).Result(&n)
	assert.Equal(t, 8, n)
}
