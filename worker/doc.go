// Package worker runs jobs: a pool takes them from a service, hands each to the
// handler of its task, renews their leases and settles their outcomes.
//
//	pool := worker.New(mule, worker.Options{Queues: []string{"berths", "common"}, Slots: 8})
//	worker.Handle(pool, "tide.predict", func(ctx context.Context, day Day) (Curve, error) { … })
//	err := pool.Run(ctx) // until ctx ends; then drains
//
// A handler that returns nil has done its job; its value is the job's result.
// Any other error is a failed attempt, tried again by the job's policy, unless
// it is one of [GiveUp], [Skip], [RetryIn] and [Postpone]. A handler that panics
// fails its attempt, never the pool.
//
// A job may run more than once: when its lease is lost, its handler may be still
// running while another begins. Handlers should be safe to repeat.
package worker
