// The bench command measures the service beside its baselines, in one run, in scenarios that
// can be run alone: single durable enqueues beside bare handlers with the same body, whole
// lives of jobs beside PostgreSQL with the usual loop and beside plain tables, and more.
// Compare ratios: the times are this machine's alone.
package main

import (
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/gin-gonic/gin"

	"humblemule/client"
)

var (
	bare    = flag.String("bare", "", "be the bare handler at this address")
	synced  = flag.String("synced", "", "have the bare handler hand off what it reads, and sync it to this file before it answers")
	program = flag.String("hmule", "bin/hmule", "the built program")
	rounds  = flag.Int("rounds", 5, "rounds of each measurement; medians are told")
	span    = flag.Duration("span", 2*time.Second, "length of a round")
	letters = flag.Int("letters", 1_000_000, "dead letters of the measurement of causes")
	old     = flag.String("beside", "", "measure this build of the program beside -hmule, and nothing else")
	place   = flag.String("dir", ".", "where the measurement's files are made")
	backlog = flag.Int("backlog", 1_000_000, "jobs that wait in one of the two services")
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
}

// inService measures a service of its own.
func inService(measure func(ctx context.Context, p *process, dir string) error) func(context.Context, string) error {
	return func(ctx context.Context, dir string) error {
		p, err := start(*program, "serve", "--data", filepath.Join(dir, "service.db"), "--listen")
		if err != nil {
			return err
		}
		defer p.end()
		return measure(ctx, p, dir)
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
	ctx, cancel := context.WithTimeout(context.Background(), time.Hour)
	defer cancel()
	for i, s := range wanted {
		if i > 0 {
			fmt.Println()
		}
		if err := inFolder(func(dir string) error { return s.measure(ctx, dir) }); err != nil {
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
			return nil, fmt.Errorf("%q is no scenario; go run . -help lists them", name)
		}
		all = append(all, scenarios[i])
	}
	return all, nil
}

// enqueueBody is the job of the enqueue measurements: a payload of 200 bytes.
var enqueueBody = `{"task":"tide.predict","payload":` + loopPayload + `}`

var loopPayload = `{"station":"inner-quay","note":"` + strings.Repeat("x", 158) + `"}`

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
	fmt.Println("ready")
	return http.Serve(l, r)
}

// measured is a rate and the service's CPU time per piece of work.
type measured struct{ rate, cpuMicros []float64 }

func (m *measured) add(n int, took, cpu time.Duration) {
	m.rate = append(m.rate, float64(n)/took.Seconds())
	m.cpuMicros = append(m.cpuMicros, float64(cpu.Microseconds())/float64(n))
}

func median(all []float64) float64 {
	if len(all) == 0 {
		return 0
	}
	sorted := slices.Sorted(slices.Values(all))
	return sorted[len(sorted)/2]
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
	p50, p99, err := fsyncs(dir)
	if err != nil {
		return err
	}
	fmt.Printf("fsync of 4 KiB on this disk: p50 %s, p99 %s; %d rounds of %s each, medians\n\n", p50.Round(time.Microsecond), p99.Round(time.Microsecond), *rounds, *span)

	self, err := os.Executable()
	if err != nil {
		return err
	}
	plain, err := start(self, "-bare")
	if err != nil {
		return err
	}
	defer plain.end()
	durable, err := start(self, "-synced", filepath.Join(dir, "synced"), "-bare")
	if err != nil {
		return err
	}
	defer durable.end()
	mule, err := start(*program, "serve", "--data", filepath.Join(dir, "bench.db"), "--listen")
	if err != nil {
		return err
	}
	defer mule.end()
	direct, err := openDirect(filepath.Join(dir, "direct.db"))
	if err != nil {
		return err
	}
	defer direct.close()

	full, err := start(*program, "serve", "--data", filepath.Join(dir, "full.db"), "--listen")
	if err != nil {
		return err
	}
	defer full.end()
	fmt.Fprintf(os.Stderr, "enqueueing %d jobs that wait …\n", *backlog)
	if err := fill(ctx, full, *backlog); err != nil {
		return err
	}
	r, err := compare(ctx, plain, durable, mule, full, direct)
	if err != nil {
		return err
	}
	r.report()
	fmt.Printf("\n%-52s %12s %9.0f MB\n", "memory of the service with the backlog", "", full.memory())
	return nil
}

// results are what was measured round by round: the baselines, a service that
// began with nothing waiting, and one with the backlog.
type results struct{ bare, synced, enqueue, enqueueFull, life, lifeFull, direct measured }

// compare measures everything in turn, so that a change of the machine's speed
// touches all alike.
func compare(ctx context.Context, plain, durable, mule, full *process, direct *direct) (r results, err error) {
	for range *rounds {
		for _, m := range []struct {
			into *measured
			p    *process
			do   func(context.Context, *process) (int, error)
		}{{&r.bare, plain, enqueue}, {&r.synced, durable, enqueue}, {&r.enqueue, mule, enqueue}, {&r.enqueueFull, full, enqueue}, {&r.life, mule, life}, {&r.lifeFull, full, life}} {
			cpu, began := m.p.cpu(), time.Now()
			n, err := m.do(ctx, m.p)
			if err != nil {
				return r, err
			}
			m.into.add(n, time.Since(began), m.p.cpu()-cpu)
		}
		cpu, began := ownCPU(), time.Now()
		n, err := direct.lives(*span)
		if err != nil {
			return r, err
		}
		r.direct.add(n, time.Since(began), ownCPU()-cpu)
	}
	return r, nil
}

func (r *results) report() {
	fmt.Printf("%-52s %12s %12s\n", "", "jobs/s", "CPU, µs/job")
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
		fmt.Printf("%-52s %12.0f %12.1f\n", l.what, median(l.m.rate), median(l.m.cpuMicros))
	}
	fmt.Println()
	ratio := func(what string, a, b []float64, want string) {
		all := make([]float64, len(a))
		for i := range a {
			all[i] = a[i] / b[i]
		}
		fmt.Printf("%-52s %12.2f   %s\n", what, median(all), want)
	}
	fmt.Println("ratios, medians over the rounds")
	ratio("throughput, enqueue / bare handler", r.enqueue.rate, r.bare.rate, "")
	ratio("CPU of the service, enqueue / bare handler", r.enqueue.cpuMicros, r.bare.cpuMicros, "")
	ratio("throughput, enqueue / with hand-off and fsync", r.enqueue.rate, r.synced.rate, "≥ 0.7")
	ratio("CPU of the service, enqueue / with hand-off and fsync", r.enqueue.cpuMicros, r.synced.cpuMicros, "≤ 1.5")
	ratio("whole life / through the driver", r.life.rate, r.direct.rate, "")
	ratio("enqueue: nothing waiting / backlog", r.enqueue.rate, r.enqueueFull.rate, "≤ 1.5")
	ratio("whole life: nothing waiting / backlog", r.life.rate, r.lifeFull.rate, "≤ 1.5")
}

// fsyncs measures what a durable write costs on this disk at the least.
func fsyncs(dir string) (p50, p99 time.Duration, err error) {
	f, err := os.Create(filepath.Join(dir, "fsync"))
	if err != nil {
		return 0, 0, err
	}
	defer f.Close()
	block := make([]byte, 4096)
	var all []time.Duration
	for range 500 {
		began := time.Now()
		if _, err := f.Write(block); err != nil {
			return 0, 0, err
		}
		if err := f.Sync(); err != nil {
			return 0, 0, err
		}
		all = append(all, time.Since(began))
	}
	slices.Sort(all)
	return all[len(all)/2], all[len(all)*99/100], nil
}

// process is a service that is measured from outside.
type process struct {
	cmd     *exec.Cmd
	address string
}

func start(command string, args ...string) (*process, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	p := &process{address: l.Addr().String()}
	l.Close()
	p.cmd = exec.Command(command, append(args, p.address)...)
	if err := p.cmd.Start(); err != nil {
		return nil, err
	}
	for range 2000 {
		if resp, err := http.Get("http://" + p.address + "/readyz"); err == nil {
			return p, resp.Body.Close() // a bare handler answers that there is no such page
		}
		time.Sleep(5 * time.Millisecond)
	}
	p.end()
	return nil, fmt.Errorf("%s does not answer at %s", command, p.address)
}

func (p *process) end() {
	p.cmd.Process.Signal(syscall.SIGTERM)
	p.cmd.Wait()
}

// cpu is the CPU time that the process has used, from /proc.
func (p *process) cpu() time.Duration {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", p.cmd.Process.Pid))
	if err != nil {
		return 0
	}
	fields := strings.Fields(string(stat[bytes.LastIndexByte(stat, ')')+2:]))
	user, _ := strconv.Atoi(fields[11])
	system, _ := strconv.Atoi(fields[12])
	const tick = 10 * time.Millisecond
	return time.Duration(user+system) * tick
}

func ownCPU() time.Duration {
	var u syscall.Rusage
	syscall.Getrusage(syscall.RUSAGE_SELF, &u)
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// fill enqueues jobs that wait in the queue that the measurements use.
func fill(ctx context.Context, p *process, n int) error {
	m, err := client.New(p.address)
	if err != nil {
		return err
	}
	defer m.Close()
	const together = 10_000
	lines := []byte(strings.Repeat(enqueueBody+"\n", together))
	for done := 0; done < n; done += together {
		if _, err := m.EnqueueLines(ctx, lines[:len(lines)/together*min(together, n-done)]); err != nil {
			return err
		}
	}
	return nil
}
