package main

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/measure"
	"humblemule.example/job"
	"humblemule.example/worker"
)

// growth measures how figures change as a backlog, queues, pools or payloads grow, and draws
// each beside the document.
func growth(ctx context.Context, dir string) error {
	for _, of := range []func(context.Context, string) error{growBacklog, growQueues, growPools, growPayloads} {
		if err := of(ctx, dir); err != nil {
			return err
		}
	}
	return nil
}

// chart draws lines into a file beside the document; into none where there is no document.
func chart(name, title, x, y string, lines ...measure.Line) error {
	if *document == "" {
		return nil
	}
	dir := strings.TrimSuffix(*document, ".md")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	f, err := os.Create(filepath.Join(dir, name+".svg"))
	if err != nil {
		return err
	}
	if err := measure.Lines(f, title, x, y, true, lines); err != nil {
		return err
	}
	return f.Close()
}

// steps are 1, 10, 100 … to the most.
func steps(most int) (all []int) {
	for n := 1; n < most; n *= 10 {
		all = append(all, n)
	}
	return append(all, most)
}

// rated is the median rate of some rounds of work, and its CPU time a job.
func rated(ctx context.Context, p *measure.Process, work func(context.Context, *measure.Process) (int, error)) (rate, cpu float64, err error) {
	var m measured
	for range *rounds {
		before, began := p.CPU(), time.Now()
		n, err := work(ctx, p)
		if err != nil {
			return 0, 0, err
		}
		m.add(n, time.Since(began), p.CPU()-before)
	}
	return measure.Median(m.rate), measure.Median(m.cpuMicros), nil
}

// growBacklog measures lives, enqueues and a page of a list in front of more and more jobs that
// wait, on one service, and its start and its memory.
func growBacklog(ctx context.Context, dir string) error {
	data := filepath.Join(dir, "backlog.db")
	p, err := measure.Serve(*program, data)
	if err != nil {
		return err
	}
	defer func() { p.End() }()
	say("%-22s %12s %12s %12s %12s %10s %10s %10s\n", "jobs that wait", "life, jobs/s", "CPU, µs", "enqueue/s", "CPU, µs", "list, ms", "start, s", "memory, MB")
	lives, singles := measure.Line{Name: "whole lives"}, measure.Line{Name: "enqueues"}
	waiting := 0
	for _, n := range steps(*backlog) {
		if n < 1000 && n != 1 {
			continue
		}
		fmt.Fprintf(os.Stderr, "enqueueing to %d jobs that wait …\n", n)
		if err := fill(ctx, p, n-waiting); err != nil {
			return err
		}
		p.End() // what it starts with is measured too
		began := time.Now()
		if p, err = measure.Serve(*program, data); err != nil {
			return err
		}
		start := time.Since(began)
		life, lifeCPU, err := rated(ctx, p, life)
		if err != nil {
			return err
		}
		waiting = n
		page, err := pageTakes(ctx, p)
		if err != nil {
			return err
		}
		memory := p.Memory()
		single, singleCPU, err := rated(ctx, p, enqueue) // these jobs stay
		if err != nil {
			return err
		}
		waiting += int(single * span.Seconds() * float64(*rounds))
		say("%-22d %12.0f %12.1f %12.0f %12.1f %10.2f %10.2f %10.0f\n", n, life, lifeCPU, single, singleCPU, page, start.Seconds(), memory)
		lives.X, lives.Y = append(lives.X, float64(n)), append(lives.Y, life)
		singles.X, singles.Y = append(singles.X, float64(n)), append(singles.Y, single)
	}
	return chart("backlog", "Does a backlog slow anything down?", "jobs that wait", "jobs a second", lives, singles)
}

// pageTakes is how long a page of the list of waiting jobs takes at the median, in ms.
func pageTakes(ctx context.Context, p *measure.Process) (float64, error) {
	m, err := client.New(p.Address)
	if err != nil {
		return 0, err
	}
	defer m.Close()
	var took []float64
	for range 50 {
		began := time.Now()
		if _, err := m.ListJobs(ctx, api.Filter{Queues: []string{job.DefaultQueue}, States: []job.State{job.Ready}, Limit: 50}); err != nil {
			return 0, err
		}
		took = append(took, time.Since(began).Seconds()*1000)
	}
	return measure.Median(took), nil
}

// growQueues spreads the same lives over more and more queues.
func growQueues(ctx context.Context, dir string) error {
	say("\n%-22s %12s %12s\n", "queues", "life, jobs/s", "CPU, µs")
	line := measure.Line{Name: "whole lives"}
	p, err := measure.Serve(*program, filepath.Join(dir, "queues.db"))
	if err != nil {
		return err
	}
	defer p.End()
	for _, n := range steps(1000) {
		work := measure.LifeAmong(n, batch)
		rate, cpu, err := rated(ctx, p, func(ctx context.Context, p *measure.Process) (int, error) { return together(ctx, 8, p, work) })
		if err != nil {
			return err
		}
		say("%-22d %12.0f %12.1f\n", n, rate, cpu)
		line.X, line.Y = append(line.X, float64(n)), append(line.Y, rate)
	}
	return chart("queues", "What do more queues cost?", "queues that the jobs are spread over", "jobs a second", line)
}

// growPools runs jobs that do nothing by more and more pools.
func growPools(ctx context.Context, dir string) error {
	say("\n%-22s %16s %20s\n", "pools of 8 slots", "none ahead, jobs/s", "ahead as measured")
	lines := []measure.Line{{Name: "none held ahead"}, {Name: "held ahead"}}
	p, err := measure.Serve(*program, filepath.Join(dir, "pools.db"))
	if err != nil {
		return err
	}
	defer p.End()
	m, err := client.New(p.Address, client.HTTPClient(&http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 600}}))
	if err != nil {
		return err
	}
	defer m.Close()
	for _, pools := range []int{1, 2, 4, 8, 16, 32, 64} {
		row := fmt.Sprintf("%-22d", pools)
		for i, ahead := range []int{0, worker.Measured} {
			var rates []float64
			for range *rounds {
				if err := fill(ctx, p, int(40_000*span.Seconds())); err != nil {
					return err
				}
				n, err := measure.Drain(ctx, m, pools, worker.Options{Slots: 8, Ahead: ahead, Log: slog.New(slog.DiscardHandler)}, *span)
				if err != nil {
					return err
				}
				rates = append(rates, float64(n)/span.Seconds())
			}
			row += fmt.Sprintf(" %18.0f", measure.Median(rates))
			lines[i].X, lines[i].Y = append(lines[i].X, float64(pools)), append(lines[i].Y, measure.Median(rates))
		}
		say("%s\n", row)
	}
	return chart("pools", "How many pools does one service feed?", "pools of eight slots whose handlers do nothing", "jobs a second", lines...)
}

// growPayloads enqueues larger and larger payloads.
func growPayloads(ctx context.Context, dir string) error {
	say("\n%-22s %12s %12s %12s\n", "payload, bytes", "jobs/s", "MB/s", "CPU, µs")
	line := measure.Line{Name: "enqueues"}
	p, err := measure.Serve(*program, filepath.Join(dir, "payloads.db"))
	if err != nil {
		return err
	}
	defer p.End()
	for _, size := range []int{100, 500, 1000, 4000, 16_000, 64_000, 128_000} {
		work := measure.Sized(size)
		rate, cpu, err := rated(ctx, p, func(ctx context.Context, p *measure.Process) (int, error) { return together(ctx, 16, p, work) })
		if err != nil {
			return err
		}
		say("%-22d %12.0f %12.1f %12.1f\n", size, rate, rate*float64(size)/1e6, cpu)
		line.X, line.Y = append(line.X, float64(size)), append(line.Y, rate)
	}
	return chart("payloads", "What do larger payloads cost?", "bytes of a payload", "jobs a second, 16 connections", line)
}
