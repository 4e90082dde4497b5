package main

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"time"
)

// lives measures whole lives of jobs beside PostgreSQL with the usual loop: a hundred jobs a
// call, and one.
func lives(ctx context.Context, dir string) error {
	mule, err := start(*program, "serve", "--data", filepath.Join(dir, "lives.db"), "--listen")
	if err != nil {
		return err
	}
	defer mule.end()
	loops, err := startLoops(ctx, dir)
	if err != nil {
		return err
	}
	defer loops.end()
	direct, err := openDirect(filepath.Join(dir, "direct.db"))
	if err != nil {
		return err
	}
	defer direct.close()
	plain, err := openPlain(filepath.Join(dir, "plain.db"))
	if err != nil {
		return err
	}
	defer plain.close()
	p50, p99, err := fsyncs(dir)
	if err != nil {
		return err
	}
	fmt.Printf("fsync of 4 KiB on this disk: p50 %s, p99 %s; %d rounds of %s each, medians\n\n", p50.Round(time.Microsecond), p99.Round(time.Microsecond), *rounds, *span)
	var hundred, single, joined, loopHundred, loopSingle, statements, plainRows, plainSets measured
	for range *rounds {
		for _, m := range []struct {
			into *measured
			cpu  func() time.Duration
			do   func(context.Context) (int, error)
		}{
			{&hundred, mule.cpu, func(ctx context.Context) (int, error) { return life(ctx, mule) }},
			{&loopHundred, nil, loops.lives(batch)},
			{&single, mule.cpu, func(ctx context.Context) (int, error) { return singleLife(ctx, mule) }},
			{&joined, mule.cpu, func(ctx context.Context) (int, error) { return joinedLife(ctx, mule) }},
			{&loopSingle, nil, loops.lives(1)},
			{&statements, ownCPU, func(context.Context) (int, error) { return direct.lives(*span) }},
			{&plainRows, ownCPU, func(context.Context) (int, error) { return plain.lives(*span, plain.byRow) }},
			{&plainSets, ownCPU, func(context.Context) (int, error) { return plain.lives(*span, plain.bySet) }},
		} {
			cpu := time.Duration(0)
			if m.cpu != nil {
				cpu = m.cpu()
			}
			began := time.Now()
			n, err := m.do(ctx)
			if err != nil {
				return err
			}
			took := time.Since(began)
			if m.cpu != nil {
				cpu = m.cpu() - cpu
			}
			m.into.add(n, took, cpu)
		}
	}
	fmt.Printf("%-58s %10s %10s\n", "whole lives", "jobs/s", "CPU, µs")
	for _, l := range []struct {
		what string
		m    measured
	}{
		{"ours, a hundred a call, 8 connections", hundred}, {"PostgreSQL loop, a hundred a call, 8 clients", loopHundred},
		{"ours, one a call, 16 connections, three calls", single}, {"ours, one a call, settle and take in one", joined}, {"PostgreSQL loop, one a call, 8 clients", loopSingle},
		{"our statements, batches of a hundred, one thread", statements}, {"plain tables row by row", plainRows}, {"plain tables by sets", plainSets},
	} {
		fmt.Printf("%-58s %10.0f %10.1f\n", l.what, median(l.m.rate), median(l.m.cpuMicros))
	}
	fmt.Println("\nratios, medians over the rounds")
	for _, l := range []struct {
		what string
		a, b measured
		want string
	}{
		{"a hundred a call / PostgreSQL loop", hundred, loopHundred, "≥ 1.3"},
		{"one a call, three calls / PostgreSQL loop", single, loopSingle, "≥ 2"},
		{"one a call, settle and take in one / PostgreSQL loop", joined, loopSingle, "≥ 3"},
		{"our statements / plain tables row by row", statements, plainRows, "≥ 1.1"},
		{"our statements / plain tables by sets", statements, plainSets, "≥ 0.85"},
	} {
		all := make([]float64, *rounds)
		for i := range all {
			all[i] = l.a.rate[i] / l.b.rate[i]
		}
		fmt.Printf("%-58s %10.2f   %s\n", l.what, median(all), l.want)
	}
	return nil
}

// singleLife enqueues, leases and settles jobs one a call, from 16 connections.
func singleLife(ctx context.Context, p *process) (int, error) {
	one := request("/v1/jobs", "application/json", enqueueBody)
	return together(ctx, 16, p, func(w int, c *connection) (int, error) {
		if _, err := c.post(one, http.StatusCreated); err != nil {
			return 0, err
		}
		tokens, err := leaseOne(c, w, "")
		if err != nil || len(tokens) == 0 {
			return 0, err
		}
		_, err = c.post(request("/v1/leases/settle", "application/json", `{"leases":`+settlements(tokens)+`}`), http.StatusOK)
		return 1, err
	})
}

// joinedLife does the same, and settles a job with the call that takes the next.
func joinedLife(ctx context.Context, p *process) (int, error) {
	one := request("/v1/jobs", "application/json", enqueueBody)
	held := make([][]string, 16)
	return together(ctx, 16, p, func(w int, c *connection) (int, error) {
		if _, err := c.post(one, http.StatusCreated); err != nil {
			return 0, err
		}
		settle := ""
		if len(held[w]) > 0 {
			settle = `,"settle":` + settlements(held[w])
		}
		tokens, err := leaseOne(c, w, settle)
		n := len(held[w])
		held[w] = tokens
		return n, err
	})
}

func leaseOne(c *connection, worker int, settle string) (tokens []string, err error) {
	body, err := c.post(request("/v1/leases", "application/json", fmt.Sprintf(`{"worker":"bench-%d","queues":["common"],"limit":1%s}`, worker, settle)), http.StatusOK)
	if err != nil {
		return nil, err
	}
	leases, _, _ := bytes.Cut(body, []byte(`"results":`)) // what was settled has tokens too
	return tokensIn(leases), nil
}

// singles measures whole lives one job a call, round by round.
func singles(ctx context.Context, p *process, _ string) error {
	var apart, joined measured
	for range *rounds {
		for into, do := range map[*measured]func(context.Context, *process) (int, error){&apart: singleLife, &joined: joinedLife} {
			cpu, began := p.cpu(), time.Now()
			n, err := do(ctx, p)
			if err != nil {
				return err
			}
			into.add(n, time.Since(began), p.cpu()-cpu)
		}
	}
	fmt.Printf("%-58s %10.0f %10.1f\n%-58s %10.0f %10.1f\n", "one a call, three calls", median(apart.rate), median(apart.cpuMicros), "settle and take in one", median(joined.rate), median(joined.cpuMicros))
	return nil
}

// deep measures whole lives by the hundred in front of a backlog.
func deep(ctx context.Context, p *process, _ string) error {
	for _, more := range []int{0, *backlog} {
		if err := fill(ctx, p, more); err != nil {
			return err
		}
		fmt.Fprintf(os.Stderr, "%d wait\n", more)
		var m measured
		for range *rounds {
			cpu, began := p.cpu(), time.Now()
			n, err := life(ctx, p)
			if err != nil {
				return err
			}
			m.add(n, time.Since(began), p.cpu()-cpu)
		}
		fmt.Printf("%-58s %10.0f %10.1f\n", fmt.Sprintf("a hundred a call, %d waiting", more), median(m.rate), median(m.cpuMicros))
	}
	return nil
}
