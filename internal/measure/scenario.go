package measure

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"sync/atomic"
	"time"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/machine"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
	"humblemule.example/worker"
)

// Binds is what keeps a figure from being higher.
type Binds string

// What binds.
const (
	// BindsDisk: the writer waits for the disk most of the time.
	BindsDisk Binds = "disk"
	// BindsCPU: all cores of the machine are busy, those that make the load included.
	BindsCPU Binds = "cpu"
	// BindsWriter: the service's one writer is busy all the time, on its one core.
	BindsWriter Binds = "writer"
	// BindsConnections: the service waits for calls; more of them at once bring more.
	BindsConnections Binds = "connections"
)

// Figure is one thing that was measured: medians over the rounds.
type Figure struct {
	Scenario string `json:"scenario"`
	What     string `json:"what"`
	// PerSecond is how many jobs went through, 0 where only times are told.
	PerSecond float64 `json:"per_second"`
	// P50MS and P99MS are what half of the calls, and all but one in a hundred, took at most.
	P50MS float64 `json:"p50_ms"`
	P99MS float64 `json:"p99_ms"`
	// CPUMicros is the CPU time of the service a job.
	CPUMicros float64 `json:"cpu_us"`
	Binds     Binds   `json:"binds,omitempty"`
	// Rounds are the rates, round by round.
	Rounds []float64 `json:"rounds,omitempty"`
}

// Report is what a machine can do.
type Report struct {
	At      job.Time `json:"at"`
	Version string   `json:"version"`
	System  string   `json:"system"`
	Cores   int      `json:"cores"`
	// FsyncP50MS and FsyncP99MS are what a durable write of 4 KiB took before anything else.
	FsyncP50MS float64  `json:"fsync_p50_ms"`
	FsyncP99MS float64  `json:"fsync_p99_ms"`
	Figures    []Figure `json:"figures"`
}

// Asked says what is to be measured.
type Asked struct {
	// Program is the built program, whose service is measured, and Dir the folder on whose
	// disk its files are made and thrown away.
	Program, Dir string
	// Span is how long a round takes, and Rounds how many there are of each figure.
	Span   time.Duration
	Rounds int
	// Backlog is how many jobs wait where a scenario wants some to.
	Backlog int
	// Scenarios are the names of those that are measured; none means all.
	Scenarios []string
	// Told is told what is measured now, and how many figures are there by then.
	Told func(done, all int, what string)
}

// figure is how one is measured: a round of it gives how many jobs went through, and what the
// calls took.
type figure struct {
	scenario, what string
	// ready makes ready for a round, such as by a backlog.
	ready func(ctx context.Context, s *site) error
	round func(ctx context.Context, s *site) (jobs int, took []float64, err error)
}

// site is where a scenario is measured: a service on a file of its own.
type site struct {
	*Process
	m    *client.Client
	span time.Duration
}

// Scenario is a group of figures that can be measured alone.
type Scenario struct{ Name, What string }

// Scenarios lists them, in their order.
func Scenarios() []Scenario {
	return []Scenario{
		{"enqueue", "durable enqueues, one job per call"},
		{"bulk", "durable enqueues, a thousand jobs per call"},
		{"payload", "durable enqueues with larger payloads"},
		{"life", "enqueue, take and settle"},
		{"pool", "worker pools that run jobs which do nothing"},
		{"start", "from an enqueue to its start, with nothing else going on"},
		{"backlog", "enqueue, take and settle with many jobs waiting"},
	}
}

func figures(backlog int) []figure {
	calls := func(scenario, what string, connections int, work func() Work) figure {
		return figure{scenario: scenario, what: what, round: func(ctx context.Context, s *site) (int, []float64, error) {
			return Together(ctx, s.Address, connections, s.span, work())
		}}
	}
	always := func(w Work) func() Work { return func() Work { return w } }
	deep := calls("backlog", fmt.Sprintf("100 a call, %s waiting", sentence.Grouped(int64(backlog))), 8, always(Life(100)))
	deep.ready = func(ctx context.Context, s *site) error { return s.waiting(ctx, backlog) }
	return []figure{
		calls("enqueue", "1 connection", 1, Single),
		calls("enqueue", "8 connections", 8, Single),
		calls("enqueue", "64 connections", 64, Single),
		calls("bulk", "1 connection", 1, always(Bulk(1000))),
		calls("bulk", "4 connections", 4, always(Bulk(1000))),
		calls("payload", "4 KiB, 16 connections", 16, always(Sized(4<<10))),
		calls("payload", "64 KiB, 16 connections", 16, always(Sized(64<<10))),
		calls("life", "1 a call, 16 connections", 16, always(Life(1))),
		calls("life", "1 a call, settled with the next take", 16, func() Work { return JoinedLife(16) }),
		calls("life", "10 a call, 8 connections", 8, always(Life(10))),
		calls("life", "100 a call, 8 connections", 8, always(Life(100))),
		drained("1 pool of 8 slots", 1, 0),
		drained("4 pools of 8 slots", 4, 0),
		drained("16 pools of 8 slots", 16, 0),
		drained("16 pools, jobs held ahead", 16, worker.Measured),
		{scenario: "start", what: "to a worker that waits", round: started},
		deep,
	}
}

// Fill enqueues jobs that wait in the queue which the measurements use.
func Fill(ctx context.Context, address string, n int) error {
	c, err := Dial(address)
	if err != nil {
		return err
	}
	defer c.Close()
	const together = 5000
	bulk := Bulk(together)
	for ; n >= together && ctx.Err() == nil; n -= together {
		if _, err := bulk(0, c); err != nil {
			return err
		}
	}
	if n > 0 {
		_, err = Bulk(n)(0, c)
	}
	return err
}

// drained has pools run off what waits, for a span.
func drained(what string, pools, ahead int) figure {
	const perSecond = 40_000 // more than pools run on any machine that was seen
	return figure{
		scenario: "pool", what: what,
		ready: func(ctx context.Context, s *site) error { return s.waiting(ctx, int(s.span.Seconds()*perSecond)) },
		round: func(ctx context.Context, s *site) (int, []float64, error) {
			n, err := Drain(ctx, s.m, pools, worker.Options{Slots: 8, Ahead: ahead}, s.span)
			return n, nil, err
		},
	}
}

// waiting has at least so many jobs wait.
func (s *site) waiting(ctx context.Context, n int) error {
	stats, err := s.m.Stats(ctx, "")
	if err != nil {
		return err
	}
	return Fill(ctx, s.Address, n-int(stats.Counts[job.Ready]))
}

// Drain runs pools whose handlers do nothing for a span, and counts what they have run.
func Drain(ctx context.Context, m *client.Client, pools int, o worker.Options, span time.Duration) (int, error) {
	ctx, stop := context.WithTimeout(ctx, span)
	defer stop()
	o.Log = slog.New(slog.DiscardHandler)
	var n atomic.Int64
	ended := make(chan error, pools)
	for range pools {
		pool := worker.New(m.Source(), o)
		worker.Handle(pool, "tide.predict", func(context.Context, map[string]string) (bool, error) {
			n.Add(1)
			return true, nil
		})
		go func() { ended <- pool.Run(ctx) }()
	}
	<-ctx.Done()
	ran := int(n.Load())
	var err error
	for range pools {
		if e := <-ended; err == nil {
			err = e
		}
	}
	return ran, err
}

// started measures the way from an enqueue's call to the job in the hands of a worker whose
// take is parked.
func started(ctx context.Context, s *site) (int, []float64, error) {
	took, err := StartWhenIdle(ctx, s.m, s.span)
	return len(took), took, err
}

// StartWhenIdle measures for a span how long it is from an enqueue's call to the job in the
// hands of a worker whose take is parked, in ms.
func StartWhenIdle(ctx context.Context, m *client.Client, span time.Duration) (took []float64, err error) {
	for until := time.Now().Add(span); time.Now().Before(until) && ctx.Err() == nil; {
		began, got := make(chan time.Time, 1), make(chan error, 1)
		go func() {
			a, err := m.Source().Lease(ctx, api.LeaseRequest{Worker: "idle", Queues: []string{"idle"}, Limit: 1, Wait: job.Duration(10 * time.Second)})
			if err == nil && len(a.Leases) > 0 {
				took = append(took, time.Since(<-began).Seconds()*1000)
				_, err = m.Source().Settle(ctx, []api.Settlement{{Token: a.Leases[0].Token, Outcome: job.OutcomeDone}})
			}
			got <- err
		}()
		time.Sleep(5 * time.Millisecond) // until the take is parked
		began <- time.Now()
		if _, err := m.Enqueue(ctx, job.Spec{Task: "fog.bulletin", Queue: "idle"}); err != nil {
			return nil, err
		}
		if err := <-got; err != nil {
			return nil, err
		}
	}
	return took, ctx.Err()
}

// Run measures what is asked. Its services and their files are gone when it returns.
func Run(ctx context.Context, asked Asked) (r Report, err error) {
	dir, err := os.MkdirTemp(asked.Dir, "hmule-bench-")
	if err != nil {
		return r, err
	}
	defer os.RemoveAll(dir)
	p50, p99, err := Fsyncs(dir)
	if err != nil {
		return r, err
	}
	r = Report{
		At: job.At(time.Now()), System: runtime.GOOS + "/" + runtime.GOARCH, Cores: runtime.NumCPU(),
		FsyncP50MS: p50.Seconds() * 1000, FsyncP99MS: p99.Seconds() * 1000,
	}
	all := slices.DeleteFunc(figures(asked.Backlog), func(f figure) bool {
		return len(asked.Scenarios) > 0 && !slices.Contains(asked.Scenarios, f.scenario)
	})
	for i, f := range all {
		asked.Told(i, len(all), f.scenario+": "+f.what)
		measured, err := f.measure(ctx, asked, filepath.Join(dir, fmt.Sprintf("%d.db", i)))
		if err != nil {
			return r, fmt.Errorf("%s, %s: %w", f.scenario, f.what, err)
		}
		r.Figures = append(r.Figures, measured)
	}
	asked.Told(len(all), len(all), "")
	return r, nil
}

// measure measures a figure on a service of its own, whose file goes with it.
func (f *figure) measure(ctx context.Context, asked Asked, data string) (Figure, error) {
	measured := Figure{Scenario: f.scenario, What: f.what}
	p, err := Serve(asked.Program, data)
	if err != nil {
		return measured, err
	}
	defer func() {
		p.End()
		files, _ := filepath.Glob(data + "*") // the pattern is good
		for _, name := range files {
			os.Remove(name)
		}
	}()
	m, err := client.New(p.Address, client.HTTPClient(&http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 600}}))
	if err != nil {
		return measured, err
	}
	defer m.Close()
	s := &site{p, m, asked.Span}
	var spent usage
	var took, cpu []float64
	for range asked.Rounds {
		if f.ready != nil {
			if err := f.ready(ctx, s); err != nil {
				return measured, err
			}
		}
		before, err := s.usage(ctx)
		if err != nil {
			return measured, err
		}
		n, each, err := f.round(ctx, s)
		if ctx.Err() != nil {
			return measured, ctx.Err()
		}
		after, wrong := s.usage(ctx)
		if err != nil || wrong != nil {
			return measured, errors.Join(err, wrong)
		}
		d := after.less(before)
		measured.Rounds = append(measured.Rounds, float64(n)/d.wall.Seconds())
		cpu = append(cpu, float64(d.service.Microseconds())/float64(max(n, 1)))
		took = append(took, each...)
		spent = spent.more(d)
	}
	measured.PerSecond, measured.CPUMicros = Median(measured.Rounds), Median(cpu)
	measured.P50MS, measured.P99MS = At(0.5, took), At(0.99, took)
	if measured.Binds = spent.binds(runtime.NumCPU()); f.scenario == "start" {
		measured.PerSecond, measured.CPUMicros, measured.Binds, measured.Rounds = 0, 0, "", nil
	}
	return measured, nil
}

// usage is what a service, its writer and this process have used of a while.
type usage struct{ wall, service, own, work, disk time.Duration }

var epoch = time.Now()

func (s *site) usage(ctx context.Context) (usage, error) {
	stats, err := s.m.Stats(ctx, "")
	w := stats.Writing
	return usage{time.Since(epoch), s.CPU(), machine.CPU(), time.Duration(w.WorkMS) * time.Millisecond, time.Duration(w.DiskMS) * time.Millisecond}, err
}

func (u usage) less(v usage) usage {
	return usage{u.wall - v.wall, u.service - v.service, u.own - v.own, u.work - v.work, u.disk - v.disk}
}

func (u usage) more(v usage) usage {
	return usage{u.wall + v.wall, u.service + v.service, u.own + v.own, u.work + v.work, u.disk + v.disk}
}

// binds tells what keeps the rate from being higher: the writer is one, so that it binds when
// it has hardly waited for work; and before it the machine, when all cores were busy.
func (u usage) binds(cores int) Binds {
	const most = 0.8
	writer := (u.work + u.disk).Seconds() / u.wall.Seconds()
	busy := (u.service + u.own).Seconds() / u.wall.Seconds() / float64(cores)
	switch {
	case writer >= most && u.disk >= u.work:
		return BindsDisk
	case busy >= most:
		return BindsCPU
	case writer >= most:
		return BindsWriter
	}
	return BindsConnections
}

// Describe tells what binds, in words.
func (b Binds) Describe() string {
	switch b {
	case BindsDisk:
		return "disk"
	case BindsCPU:
		return "all cores"
	case BindsWriter:
		return "the writer's core"
	case BindsConnections:
		return "connections"
	}
	return ""
}
