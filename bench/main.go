// The bench command measures the service beside its baselines, in one run, in scenarios that
// can be run alone: single durable enqueues beside bare handlers with the same body, whole
// lives of jobs beside PostgreSQL with the usual loop and beside plain tables, and more.
// Compare ratios: the times are this machine's alone.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"humblemule.example/internal/machine"
	"humblemule.example/internal/measure"
)

var (
	bare     = flag.String("bare", "", "be the bare handler at this address")
	synced   = flag.String("synced", "", "have the bare handler hand off what it reads, and sync it to this file before it answers")
	program  = flag.String("hmule", "bin/hmule", "the built program")
	rounds   = flag.Int("rounds", 5, "rounds of each measurement; medians are told")
	span     = flag.Duration("span", 2*time.Second, "length of a round")
	letters  = flag.Int("letters", 1_000_000, "dead letters of the measurement of causes")
	old      = flag.String("beside", "", "measure this build of the program beside -hmule, and nothing else")
	document = flag.String("write", "", "put what is measured into its places in this document")
	place    = flag.String("dir", ".", "where the measurement's files are made")
	backlog  = flag.Int("backlog", 1_000_000, "jobs that wait in one of the two services")
)

// scenario is what can be measured alone.
type scenario struct {
	name, what string
	measure    func(ctx context.Context, dir string) error
}

// scenarios are measured one after the other where none is named.
var scenarios = []scenario{
	{"basic", "single enqueues and whole lives beside a bare handler and the driver, empty and with a backlog", basic},
	{"lives", "whole lives beside PostgreSQL with the usual loop, and our statements beside plain tables", lives},
	{"bulks", "bulks beside the same rows through the driver", inService(bulks)},
	{"slow", "whole lives and enqueues beside PostgreSQL, where each sync of both takes 2 ms more", slow},
	{"growth", "how figures change as a backlog, queues, pools or payloads grow", growth},
	{"drivers", "the driver of SQLite in pure Go beside the one with cgo", drivers},
	{"deep", "whole lives by the hundred, empty and in front of a backlog", inService(deep)},
	{"singles", "whole lives one job a call, alone", inService(singles)},
	{"payloads", "enqueues with payloads of several sizes", inService(payloads)},
	{"idle", "the way from an enqueue to a start where nothing else goes on", inService(startWhenIdle)},
	{"pools", "worker pools", pools},
	{"orders", "the orders of queues", orders},
	{"fair", "turns of owners", fair},
	{"later", "what is planned", later},
	{"dead", "dead letters and their causes", dead},
	{"amid", "an enqueue amid bulks", amidBulks},
	{"dedupe", "dedupe where many jobs have a key", manyOfAKey},
	{"start", "a start with a long log", longLog},
	{"acts", "actions on as many jobs as the backlog, alone and beside enqueues", inService(acts)},
	{"rebuild", "a file of each older schema brought to its new tables", rebuild},
	{"retention", "whether retention keeps pace", keepsPace},
	{"inout", "webhooks beside enqueues, and calls beside a loop by hand", inOut},
	{"backup", "enqueues while a backup of 2 GB is made, beside the time before and after", inService(backups)},
}

// inService measures a service of its own.
func inService(do func(ctx context.Context, p *measure.Process, dir string) error) func(context.Context, string) error {
	return func(ctx context.Context, dir string) error {
		p, err := measure.Serve(*program, filepath.Join(dir, "service.db"))
		if err != nil {
			return err
		}
		defer p.End()
		return do(ctx, p, dir)
	}
}

func main() {
	flag.Usage = usage
	flag.Parse()
	if *bare != "" {
		log.Fatal(serveBare(*bare, *synced))
	}
	wanted, err := chosen(flag.Args())
	if err != nil {
		log.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 4*time.Hour)
	defer cancel()
	for i, s := range wanted {
		if i > 0 {
			sayLine()
		}
		if err := s.run(ctx); err != nil {
			log.Fatalf("%s: %v", s.name, err)
		}
	}
}

func usage() {
	out := flag.CommandLine.Output()
	fmt.Fprintln(out, "go run . [flags] [scenario …]\n\nScenarios, all where none is named:")
	for _, s := range scenarios {
		fmt.Fprintf(out, "  %-10s %s\n", s.name, s.what)
	}
	fmt.Fprintln(out, "\nFlags:")
	flag.PrintDefaults()
}

// chosen are the scenarios of these names, all where there are none.
func chosen(names []string) ([]scenario, error) {
	if *old != "" {
		return []scenario{{"beside", "", func(ctx context.Context, dir string) error { return beside(ctx, dir, *old) }}}, nil
	}
	if len(names) == 0 {
		return scenarios, nil
	}
	var all []scenario
	for _, name := range names {
		i := slices.IndexFunc(scenarios, func(s scenario) bool { return s.name == name })
		if i < 0 {
			return nil, fmt.Errorf("%q is not a valid scenario; go run . -help lists them", name)
		}
		all = append(all, scenarios[i])
	}
	return all, nil
}

// handOff appends what handlers give it to a file, syncs it, and lets them go on: as many
// together as wait, as our committer does. It is what a durable write costs at the least.
func handOff(path string) (keep func(body []byte) error, err error) {
	type given struct {
		body []byte
		done chan error
	}
	f, err := os.Create(path)
	if err != nil {
		return nil, err
	}
	waits := make(chan given, 1024)
	go func() {
		for first := range waits {
			batch := []given{first}
			for range 5 {
				for more := true; more; {
					select {
					case one := <-waits:
						batch = append(batch, one)
					default:
						more = false
					}
				}
				if len(batch) == 1 {
					break
				}
				runtime.Gosched()
			}
			var all []byte
			for _, one := range batch {
				all = append(all, one.body...)
			}
			_, err := f.Write(all)
			err = errors.Join(err, f.Sync())
			for _, one := range batch {
				one.done <- err
			}
		}
	}()
	return func(body []byte) error {
		done := make(chan error, 1)
		waits <- given{body, done}
		return <-done
	}, nil
}

// serveBare is what any service in Go would cost: it reads the same body and
// answers as many bytes.
func serveBare(address, path string) error {
	keep := func([]byte) error { return nil }
	if path != "" {
		var err error
		if keep, err = handOff(path); err != nil {
			return err
		}
	}
	gin.SetMode(gin.ReleaseMode)
	r := gin.New()
	answer := []byte(`{"id":1,` + strings.Repeat(" ", 480) + `"state":"ready"}`)
	r.POST("/v1/jobs", func(c *gin.Context) {
		body, err := io.ReadAll(c.Request.Body)
		if err == nil {
			err = keep(body)
		}
		if err != nil {
			c.Status(http.StatusBadRequest)
			return
		}
		c.Data(http.StatusCreated, "application/json", answer)
	})
	l, err := net.Listen("tcp", address)
	if err != nil {
		return err
	}
	sayLine("ready")
	return http.Serve(l, r)
}

// measured is a rate and the service's CPU time per piece of work.
type measured struct{ rate, cpuMicros []float64 }

func (m *measured) add(n int, took, cpu time.Duration) {
	m.rate = append(m.rate, float64(n)/took.Seconds())
	m.cpuMicros = append(m.cpuMicros, float64(cpu.Microseconds())/float64(n))
}

// inFolder makes a folder for the measurement's files.
func inFolder(do func(dir string) error) error {
	dir, err := os.MkdirTemp(*place, "bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	return do(dir)
}

func basic(ctx context.Context, dir string) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	plain, err := measure.Start(self, "-bare")
	if err != nil {
		return err
	}
	defer plain.End()
	durable, err := measure.Start(self, "-synced", filepath.Join(dir, "synced"), "-bare")
	if err != nil {
		return err
	}
	defer durable.End()
	mule, err := measure.Serve(*program, filepath.Join(dir, "bench.db"))
	if err != nil {
		return err
	}
	defer mule.End()
	direct, err := openDirect(filepath.Join(dir, "direct.db"))
	if err != nil {
		return err
	}
	defer direct.close()

	full, err := measure.Serve(*program, filepath.Join(dir, "full.db"))
	if err != nil {
		return err
	}
	defer full.End()
	fmt.Fprintf(os.Stderr, "enqueueing %d jobs that wait …\n", *backlog)
	if err := fill(ctx, full, *backlog); err != nil {
		return err
	}
	r, err := compare(ctx, plain, durable, mule, full, direct)
	if err != nil {
		return err
	}
	r.report()
	say("\n%-52s %12s %9.0f MB\n", "memory of the service with the backlog", "", full.Memory())
	return nil
}

// results are what was measured round by round: the baselines, a service that
// began with nothing waiting, and one with the backlog.
type results struct{ bare, synced, enqueue, enqueueFull, life, lifeFull, direct measured }

// compare measures everything in turn, so that a change of the machine's speed
// touches all alike.
func compare(ctx context.Context, plain, durable, mule, full *measure.Process, direct *direct) (r results, err error) {
	for range *rounds {
		for _, m := range []struct {
			into *measured
			p    *measure.Process
			do   func(context.Context, *measure.Process) (int, error)
		}{{&r.bare, plain, enqueue}, {&r.synced, durable, enqueue}, {&r.enqueue, mule, enqueue}, {&r.enqueueFull, full, enqueue}, {&r.life, mule, life}, {&r.lifeFull, full, life}} {
			cpu, began := m.p.CPU(), time.Now()
			n, err := m.do(ctx, m.p)
			if err != nil {
				return r, err
			}
			m.into.add(n, time.Since(began), m.p.CPU()-cpu)
		}
		cpu, began := machine.CPU(), time.Now()
		n, err := direct.lives(*span)
		if err != nil {
			return r, err
		}
		r.direct.add(n, time.Since(began), machine.CPU()-cpu)
	}
	return r, nil
}

func (r *results) report() {
	say("%-52s %12s %12s\n", "", "jobs/s", "CPU, µs/job")
	for _, l := range []struct {
		what string
		m    measured
	}{
		{"a bare handler, 64 connections", r.bare},
		{"a bare handler with hand-off and fsync", r.synced},
		{"durable enqueue, 64 connections", r.enqueue},
		{fmt.Sprintf("durable enqueue, %d waiting", *backlog), r.enqueueFull},
		{"whole life over HTTP, a hundred jobs a call", r.life},
		{fmt.Sprintf("whole life over HTTP, %d waiting", *backlog), r.lifeFull},
		{"the same statements through the driver", r.direct},
	} {
		say("%-52s %12.0f %12.1f\n", l.what, measure.Median(l.m.rate), measure.Median(l.m.cpuMicros))
	}
	sayLine()
	ratio := func(what string, a, b []float64, want string) {
		all := make([]float64, len(a))
		for i := range a {
			all[i] = a[i] / b[i]
		}
		say("%-52s %12.2f   %s\n", what, measure.Median(all), want)
	}
	sayLine("ratios, medians over the rounds")
	ratio("throughput, enqueue / bare handler", r.enqueue.rate, r.bare.rate, "")
	ratio("CPU of the service, enqueue / bare handler", r.enqueue.cpuMicros, r.bare.cpuMicros, "")
	ratio("throughput, enqueue / with hand-off and fsync", r.enqueue.rate, r.synced.rate, "≥ 0.7")
	ratio("CPU of the service, enqueue / with hand-off and fsync", r.enqueue.cpuMicros, r.synced.cpuMicros, "≤ 1.5")
	ratio("whole life / through the driver", r.life.rate, r.direct.rate, "")
	ratio("enqueue: nothing waiting / backlog", r.enqueue.rate, r.enqueueFull.rate, "≤ 1.4")
	ratio("whole life: nothing waiting / backlog", r.life.rate, r.lifeFull.rate, "≤ 1.4")
}

// fill enqueues jobs that wait in the queue that the measurements use.
func fill(ctx context.Context, p *measure.Process, n int) error {
	return measure.Fill(ctx, p.Address, n)
}
