package main

import (
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/machine"
	"humblemule.example/internal/measure"
	"humblemule.example/job"
	"humblemule.example/worker"
)

// pools measures worker pools: how fast they run off what waits, how soon a ready
// job starts, what a pool costs, and that a long job holds up no short one.
func pools(ctx context.Context, dir string) error {
	mule, err := measure.Serve(*program, filepath.Join(dir, "pools.db"))
	if err != nil {
		return err
	}
	defer mule.End()
	b := &poolBench{p: mule}
	if b.m, err = client.New(mule.Address, client.HTTPClient(&http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 600}})); err != nil {
		return err
	}
	defer b.m.Close()
	sayLine()
	for _, step := range []func(context.Context) error{b.runOff, b.cost, b.startUnderLoad, b.longAmongShort, b.idle} {
		if err := step(ctx); err != nil {
			return err
		}
	}
	return nil
}

type poolBench struct {
	p *measure.Process
	m *client.Client
}

var quiet = slog.New(slog.DiscardHandler)

// with runs n pools with a handler while do goes on.
func (b *poolBench) with(ctx context.Context, n int, o worker.Options, handle func(ctx context.Context, payload int64) (bool, error), do func() error) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	o.Log = quiet
	o.Queues = []string{"pools"}
	ended := make(chan error, n)
	for range n {
		pool := worker.New(b.m.Source(), o)
		worker.Handle(pool, "tide.predict", handle)
		go func() { ended <- pool.Run(ctx) }()
	}
	err := do()
	stop()
	for range n {
		if e := <-ended; err == nil {
			err = e
		}
	}
	return err
}

// enqueue hands over n jobs that do nothing, in bulks.
func (b *poolBench) enqueue(ctx context.Context, n int) error {
	const most = 5000
	for left := n; left > 0; left -= most {
		if _, err := b.m.EnqueueLines(ctx, []byte(strings.Repeat(`{"task":"tide.predict","queue":"pools","payload":1}`+"\n", min(left, most)))); err != nil {
			return err
		}
	}
	return nil
}

// drain runs n waiting jobs off by pools and tells how long it took.
func (b *poolBench) drain(ctx context.Context, n, pools int, o worker.Options) (took, ownCost time.Duration, err error) {
	if err := b.enqueue(ctx, n); err != nil {
		return 0, 0, err
	}
	var left atomic.Int64
	left.Store(int64(n))
	done := make(chan struct{})
	cpu, began := machine.CPU(), time.Now()
	err = b.with(ctx, pools, o, func(context.Context, int64) (bool, error) {
		if left.Add(-1) == 0 {
			close(done)
		}
		return true, nil
	}, func() error {
		<-done
		took = time.Since(began)
		return nil
	})
	return took, machine.CPU() - cpu, err
}

// runOff measures the lifecycle of jobs that do nothing through 1, 4 and 16 pools.
func (b *poolBench) runOff(ctx context.Context) error {
	const n = 20_000
	for _, ahead := range []int{0, worker.Measured} {
		for _, pools := range []int{1, 4, 16} {
			var rates []float64
			for range *rounds {
				took, _, err := b.drain(ctx, n, pools, worker.Options{Slots: 8, Ahead: ahead})
				if err != nil {
					return err
				}
				rates = append(rates, n/took.Seconds())
			}
			held := "none ahead"
			if ahead != 0 {
				held = "ahead as measured"
			}
			say("%-52s %12.0f\n", fmt.Sprintf("jobs/s by %d pools of 8 slots, %s", pools, held), measure.Median(rates))
		}
	}
	return nil
}

// cost compares the CPU time that a pool takes for a job that does nothing with that
// of a loop which calls the wire by hand, eight jobs a call.
func (b *poolBench) cost(ctx context.Context) error {
	const n = 20_000
	var pool, hand []float64
	for range *rounds {
		_, cpu, err := b.drain(ctx, n, 1, worker.Options{Slots: 8})
		if err != nil {
			return err
		}
		pool = append(pool, float64(cpu.Microseconds())/n)
		if err := b.enqueue(ctx, n); err != nil {
			return err
		}
		before := machine.CPU()
		if err := b.byHand(ctx, n); err != nil {
			return err
		}
		hand = append(hand, float64((machine.CPU()-before).Microseconds())/n)
	}
	say("%-52s %9.1f µs   by hand %.1f µs; ratio %.2f\n", "CPU of a pool for a job that does nothing", measure.Median(pool), measure.Median(hand), measure.Median(pool)/measure.Median(hand))
	return nil
}

func (b *poolBench) byHand(ctx context.Context, n int) error {
	var settle []api.Settlement
	for left := n; left > 0 || len(settle) > 0; {
		a, err := b.m.Source().Lease(ctx, api.LeaseRequest{Worker: "hand", Queues: []string{"pools"}, Tasks: []string{"tide.predict"}, Limit: 8, Settle: settle})
		if err != nil {
			return err
		}
		settle = settle[:0]
		for _, l := range a.Leases {
			settle = append(settle, api.Settlement{Token: l.Token, Outcome: job.OutcomeDone, Result: []byte("true")})
		}
		left -= len(a.Leases)
	}
	return nil
}

// startUnderLoad measures the way from the enqueue's call to the handler's start
// while 500 jobs come a second.
func (b *poolBench) startUnderLoad(ctx context.Context) error {
	const perSecond, seconds = 500, 6
	waited := newWaits()
	err := b.with(ctx, 4, worker.Options{Slots: 8}, func(_ context.Context, enqueued int64) (bool, error) {
		waited.add(time.Since(time.Unix(0, enqueued)))
		return true, nil
	}, func() error {
		return b.flow(ctx, perSecond*seconds, perSecond, func(int) (payload int64) { return time.Now().UnixNano() }, waited)
	})
	say("%-52s %9.2f ms   p99 %.2f ms\n", "ready to start at 500 jobs/s, p50", waited.at(0.5), waited.at(0.99))
	return err
}

// flow enqueues n jobs at a rate and waits until all have started.
func (b *poolBench) flow(ctx context.Context, n, perSecond int, payload func(i int) int64, started *waits) error {
	var all sync.WaitGroup
	failed := make(chan error, n)
	ticker := time.NewTicker(time.Second / time.Duration(perSecond))
	defer ticker.Stop()
	for i := range n {
		<-ticker.C
		all.Go(func() {
			_, err := b.m.Enqueue(ctx, job.Spec{Task: "tide.predict", Queue: "pools", Payload: job.JSON(payload(i))})
			failed <- err
		})
	}
	all.Wait()
	close(failed)
	for err := range failed {
		if err != nil {
			return err
		}
	}
	for started.count() < n {
		time.Sleep(10 * time.Millisecond)
	}
	return nil
}

// waits gathers spans from several goroutines.
type waits struct {
	mu  sync.Mutex
	all []float64 // ms
}

func newWaits() *waits { return &waits{} }

func (w *waits) add(d time.Duration) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.all = append(w.all, float64(d.Microseconds())/1000)
}

func (w *waits) count() int {
	w.mu.Lock()
	defer w.mu.Unlock()
	return len(w.all)
}

func (w *waits) at(q float64) float64 {
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.all) == 0 {
		return 0
	}
	slices.Sort(w.all)
	return w.all[int(q*float64(len(w.all)-1))]
}

// longAmongShort runs jobs of which one in a hundred is long, and sets the waits
// beside those of blind turn-taking, which gives each arriving job to the next slot
// in turn whatever that slot is doing, computed for the same jobs.
func (b *poolBench) longAmongShort(ctx context.Context) error {
	const n, perSecond, slots = 3000, 300, 8
	const short, long = 5 * time.Millisecond, 1500 * time.Millisecond
	draw := rand.New(rand.NewPCG(6853, 2))
	lasts := make([]time.Duration, n)
	for i := range lasts {
		if lasts[i] = short; draw.IntN(100) == 0 {
			lasts[i] = long
		}
	}
	var arrived [n]atomic.Int64
	waited := newWaits()
	err := b.with(ctx, 2, worker.Options{Slots: slots / 2}, func(_ context.Context, i int64) (bool, error) {
		waited.add(time.Since(time.Unix(0, arrived[i].Load())))
		time.Sleep(lasts[i])
		return true, nil
	}, func() error {
		return b.flow(ctx, n, perSecond, func(i int) int64 {
			arrived[i].Store(time.Now().UnixNano())
			return int64(i)
		}, waited)
	})
	blind := newWaits()
	var free [slots]time.Duration
	for i, last := range lasts {
		at := time.Duration(arrived[i].Load() - arrived[0].Load())
		slot := &free[i%slots]
		begins := max(at, *slot)
		blind.add(begins - at)
		*slot = begins + last
	}
	say("%-52s\n", fmt.Sprintf("waits with 1 %% long jobs (%s among %s, %d slots), ms", long, short, slots))
	for _, w := range []struct {
		what string
		*waits
	}{{"  as it is: p50, p95, p99, longest", waited}, {"  blind turn-taking, the same jobs", blind}} {
		say("%-52s %9.1f %9.1f %9.1f %9.1f\n", w.what, w.at(0.5), w.at(0.95), w.at(0.99), w.at(1))
	}
	return err
}

// idle measures what 200 pools that wait for work cost the service.
func (b *poolBench) idle(ctx context.Context) error {
	const n = 200
	before := b.p.Memory()
	return b.with(ctx, n, worker.Options{Slots: 8}, func(context.Context, int64) (bool, error) { return true, nil }, func() error {
		time.Sleep(2 * time.Second)
		cpu, began := b.p.CPU(), time.Now()
		time.Sleep(5 * time.Second)
		share := (b.p.CPU() - cpu).Seconds() / time.Since(began).Seconds()
		say("%-52s %11.1f %%   of one core; %.1f MB more memory\n", "200 idle pools, CPU of the service", 100*share, b.p.Memory()-before)
		return nil
	})
}
