package load_test

import (
	"context"
	"errors"
	"fmt"
	"math"
	"net"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/core/engine"
	"humblemule.example/internal/load"
	"humblemule.example/internal/server"
	"humblemule.example/job"
)

const second = job.Duration(time.Second)

func stream(a load.Arrivals) load.Stream { return load.Stream{Arrivals: a} }

func ofStream(all []load.Arrival, name string) []load.Arrival {
	return slices.DeleteFunc(slices.Clone(all), func(a load.Arrival) bool { return a.Stream != name })
}

func TestArrivals(t *testing.T) {
	plan := load.Plan{Seed: 6853, For: 1000 * second, Settings: []load.Setting{{Name: "plain", Pools: []load.Pool{{Slots: 1}}}}, Streams: map[string]load.Stream{
		"steady": stream(load.Arrivals{Steady: 2}), "poisson": stream(load.Arrivals{Poisson: 20}),
		"bursts": stream(load.Arrivals{Bursts: &load.Bursts{Of: 30, Every: 300 * second}}),
	}}
	drawn := plan.Streams["poisson"]
	drawn.RunTime = load.Spread[job.Duration]{LogNormal: &load.LogNormal[job.Duration]{Median: second, P95: 10 * second}}
	drawn.PayloadBytes = load.Spread[load.Bytes]{Uniform: &load.Range[load.Bytes]{From: 100, To: 110}}
	drawn.Owners = map[string]float64{"gullwing": 3, "old-quay": 1, "nobody": 0}
	drawn.Priorities, drawn.Lanes = map[string]float64{"9": 1, "0": 1}, 4
	plan.Streams["poisson"] = drawn
	require.Empty(t, plan.Check())

	all := plan.Arrivals()
	assert.Equal(t, load.Fingerprint(all), load.Fingerprint(plan.Arrivals()), "the same plan brings the same")
	assert.True(t, slices.IsSortedFunc(all, func(a, b load.Arrival) int { return int(a.At - b.At) }))
	steady, bursts, poisson := ofStream(all, "steady"), ofStream(all, "bursts"), ofStream(all, "poisson")
	assert.Len(t, steady, 2000)
	assert.Equal(t, 1500*time.Millisecond, steady[3].At)
	assert.Len(t, bursts, 4*30)
	assert.Equal(t, 300*time.Second, bursts[30].At)

	// A Poisson count is within five standard deviations, and its gaps as variable as its mean.
	assert.InDelta(t, 20_000, len(poisson), 5*math.Sqrt(20_000))
	var gaps, squares float64
	for i := range poisson[1:] {
		gap := (poisson[i+1].At - poisson[i].At).Seconds()
		gaps, squares = gaps+gap, squares+gap*gap
	}
	n := float64(len(poisson) - 1)
	assert.InDelta(t, 2, squares/n/math.Pow(gaps/n, 2), 0.1)

	var runs []float64
	of, sizes := map[string]int{}, map[int]bool{}
	for _, a := range poisson {
		runs = append(runs, a.Run.Seconds())
		of[a.Owner]++
		of[fmt.Sprint("priority ", a.Priority)]++
		of[a.Lane]++
		sizes[a.Bytes] = true
	}
	slices.Sort(runs)
	assert.InDelta(t, 1, runs[len(runs)/2], 0.05)
	assert.InDelta(t, 10, runs[len(runs)*95/100], 0.6)
	assert.InDelta(t, 3, float64(of["gullwing"])/float64(of["old-quay"]), 0.15)
	assert.Zero(t, of["nobody"])
	assert.InDelta(t, 1, float64(of["priority 9"])/float64(of["priority 0"]), 0.1)
	assert.Len(t, of, 2+2+4)
	assert.Len(t, sizes, 11, "both ends are drawn")

	// Neither another stream nor other arrivals change what the jobs of a stream are.
	drawn.Arrivals = load.Arrivals{Steady: 1}
	plan.Streams = map[string]load.Stream{"poisson": drawn}
	for i, a := range plan.Arrivals() {
		a.At = poisson[i].At
		require.Equal(t, poisson[i], a)
	}
	plan.Seed++
	assert.NotEqual(t, poisson[0].Run, plan.Arrivals()[0].Run)
}

func TestCheck(t *testing.T) {
	good := func() *load.Plan {
		return &load.Plan{For: second, Streams: map[string]load.Stream{"tide.predict": stream(load.Arrivals{Steady: 1})}, Settings: []load.Setting{{Name: "plain", Pools: []load.Pool{{Slots: 1}}}}}
	}
	require.Empty(t, good().Check())
	for field, spoil := range map[string]func(*load.Plan){
		"for":                            func(p *load.Plan) { p.For = 0 },
		"then_wait":                      func(p *load.Plan) { p.ThenWait = -1 },
		"streams":                        func(p *load.Plan) { p.Streams = nil },
		"settings":                       func(p *load.Plan) { p.Settings = slices.Repeat(p.Settings, 3) },
		"settings[0].pools":              func(p *load.Plan) { p.Settings[0].Pools = nil },
		"settings[0].pools[0].slots":     func(p *load.Plan) { p.Settings[0].Pools[0].Slots = -1 },
		"settings[0].pools[0].weights.x": func(p *load.Plan) { p.Settings[0].Pools[0].Weights = map[string]int{"x": 1} },
		"settings[0].queues.common.max_running": func(p *load.Plan) {
			n := -1
			p.Settings[0].Queues = map[string]api.Defaults{"common": {Rules: api.Rules{MaxRunning: &n}}}
		},
		"streams.tide.predict.fails":           func(p *load.Plan) { set(p, func(s *load.Stream) { s.Fails = math.NaN() }) },
		"streams.tide.predict.queue":           func(p *load.Plan) { set(p, func(s *load.Stream) { s.Queue = "No Name" }) },
		"streams.tide.predict.arrivals":        func(p *load.Plan) { set(p, func(s *load.Stream) { s.Arrivals.Poisson = 1 }) },
		"streams.tide.predict.arrivals.steady": func(p *load.Plan) { set(p, func(s *load.Stream) { s.Arrivals.Steady = math.Inf(1) }) },
		"streams.tide.predict.run_time.fixed":  func(p *load.Plan) { set(p, func(s *load.Stream) { s.RunTime.Fixed = -second }) },
		"streams.tide.predict.owners":          func(p *load.Plan) { set(p, func(s *load.Stream) { s.Owners = map[string]float64{"a": 0} }) },
		"streams.tide.predict.priorities.10":   func(p *load.Plan) { set(p, func(s *load.Stream) { s.Priorities = map[string]float64{"10": 1} }) },
		"streams.tide.predict.payload_bytes": func(p *load.Plan) {
			set(p, func(s *load.Stream) { s.PayloadBytes = load.Spread[load.Bytes]{Fixed: 1, Exponential: 1} })
		},
		"streams.tide.predict.lanes": func(p *load.Plan) { set(p, func(s *load.Stream) { s.Lanes = -1 }) },
	} {
		p := good()
		spoil(p)
		var fields []string
		for _, w := range p.Check() {
			fields = append(fields, w.Field)
		}
		assert.Contains(t, fields, field)
	}
	many := good()
	many.For = 3600 * second
	set(many, func(s *load.Stream) { s.Arrivals.Steady = 1000 })
	require.Len(t, many.Check(), 1)
	assert.Contains(t, many.Check()[0].Message, "at most 1000000 are run")
}

func set(p *load.Plan, change func(*load.Stream)) {
	s := p.Streams["tide.predict"]
	change(&s)
	p.Streams["tide.predict"] = s
}

// Two settings meet the same jobs, which come to the ends that were drawn; what each is told
// to be agrees with what the service has.
func TestRun(t *testing.T) {
	plan := &load.Plan{
		Seed: 3, For: second, ThenWait: 20 * second,
		Streams: map[string]load.Stream{
			"manifest.check": {
				Arrivals: load.Arrivals{Poisson: 60}, Fails: 0.3, Lanes: 3, Owners: map[string]float64{"gullwing": 1, "old-quay": 1},
				PayloadBytes: load.Spread[load.Bytes]{Exponential: 300}, RunTime: load.Spread[job.Duration]{Exponential: second / 500},
			},
			"fog.bulletin": {Arrivals: load.Arrivals{Bursts: &load.Bursts{Of: 40, Every: 10 * second}}, Queue: "bulletins", RunTime: load.Spread[job.Duration]{Fixed: second / 5}, Priorities: map[string]float64{"9": 1}},
		},
	}
	once, few := 1, int64(4)
	failing := map[string]api.Defaults{"manifest.check": {MaxAttempts: &once}}
	plan.Settings = []load.Setting{
		{Name: "one", Tasks: failing, Pools: []load.Pool{{Slots: 2}}},
		{Name: "two", Tasks: failing, Queues: map[string]api.Defaults{"bulletins": {Rules: api.Rules{MaxWaiting: &few}}}, Pools: []load.Pool{{Slots: 2, Count: 2}}},
	}
	require.Empty(t, plan.Check())
	var outcomes []load.Outcome
	var kept [][]string
	for i := range plan.Settings {
		var had []string
		serve := func(ctx context.Context, dir string) (string, func() error, error) { return serving(t, dir, &had) }
		told := 0
		o, err := load.Run(t.Context(), plan, &plan.Settings[i], t.TempDir(), serve, func(load.Progress) { told++ })
		require.NoError(t, err)
		assert.Positive(t, told)
		outcomes, kept = append(outcomes, o), append(kept, had)
	}
	one, two := outcomes[0], outcomes[1]
	n := int64(len(plan.Arrivals()))
	assert.Equal(t, n, one.Jobs)
	assert.Equal(t, n, two.Jobs+two.Refused)
	assert.Positive(t, two.Refused, "only 4 bulletins may wait")
	for _, o := range outcomes {
		assert.Equal(t, o.Jobs, o.Finished[job.Done]+o.Finished[job.Dead])
		assert.Zero(t, o.Unfinished)
		assert.Equal(t, o.Failures, o.Finished[job.Dead])
		assert.Len(t, o.Slowdowns, 2)
	}
	assert.Positive(t, one.Finished[job.Dead])
	assert.Equal(t, one.Finished[job.Dead], two.Finished[job.Dead], "the same attempts fail")
	manifests := func(all []string) []string {
		return slices.DeleteFunc(slices.Clone(all), func(s string) bool { return s[0] != 'm' })
	}
	assert.Equal(t, manifests(kept[0]), manifests(kept[1]), "the same jobs come")
}

// serving is a service on a new file; had is told what jobs it had at its end.
func serving(t *testing.T, dir string, had *[]string) (string, func() error, error) {
	e, err := engine.Open(filepath.Join(dir, "load.db"), engine.Options{})
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- server.New(e, server.Options{}).Serve(ctx, l) }()
	address := "http://" + l.Addr().String()
	return address, func() error {
		m, err := client.New(address)
		require.NoError(t, err)
		defer m.Close()
		page, err := m.ListJobs(context.Background(), api.Filter{Limit: 200})
		for _, j := range page.Jobs {
			*had = append(*had, fmt.Sprintf("%s owner %s lane %s: %d bytes, %s %s", j.Task, j.Owner, j.Lane, j.PayloadBytes, j.State, j.PayloadHead))
		}
		slices.Sort(*had)
		stop()
		return errors.Join(err, <-ended, e.Close())
	}, nil
}
