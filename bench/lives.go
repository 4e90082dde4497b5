package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"humblemule.example/internal/machine"
	"humblemule.example/internal/measure"
)

// lives measures whole lives of jobs beside PostgreSQL with the usual loop: a hundred jobs a
// call, and one.
func lives(ctx context.Context, dir string) error {
	mule, err := measure.Serve(*program, filepath.Join(dir, "lives.db"))
	if err != nil {
		return err
	}
	defer mule.End()
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
	var hundred, single, joined, loopHundred, loopSingle, statements, plainRows, plainSets measured
	for range *rounds {
		for _, m := range []struct {
			into *measured
			cpu  func() time.Duration
			do   func(context.Context) (int, error)
		}{
			{&hundred, mule.CPU, func(ctx context.Context) (int, error) { return life(ctx, mule) }},
			{&loopHundred, nil, loops.lives(batch)},
			{&single, mule.CPU, func(ctx context.Context) (int, error) { return singleLife(ctx, mule) }},
			{&joined, mule.CPU, func(ctx context.Context) (int, error) { return joinedLife(ctx, mule) }},
			{&loopSingle, nil, loops.lives(1)},
			{&statements, machine.CPU, func(context.Context) (int, error) { return direct.lives(*span) }},
			{&plainRows, machine.CPU, func(context.Context) (int, error) { return plain.lives(*span, plain.byRow) }},
			{&plainSets, machine.CPU, func(context.Context) (int, error) { return plain.lives(*span, plain.bySet) }},
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
	say("%-58s %10s %10s\n", "whole lives", "jobs/s", "CPU, µs")
	for _, l := range []struct {
		what string
		m    measured
	}{
		{"ours, a hundred a call, 8 connections", hundred}, {"PostgreSQL loop, a hundred a call, 8 clients", loopHundred},
		{"ours, one a call, 16 connections, three calls", single}, {"ours, one a call, settle and take in one", joined}, {"PostgreSQL loop, one a call, 8 clients", loopSingle},
		{"our statements, batches of a hundred, one thread", statements}, {"plain tables row by row", plainRows}, {"plain tables by sets", plainSets},
	} {
		cpu := "" // of another program's processes it is not known
		if us := measure.Median(l.m.cpuMicros); us > 0 {
			cpu = fmt.Sprintf("%.1f", us)
		}
		say("%-58s %10.0f %10s\n", l.what, measure.Median(l.m.rate), cpu)
	}
	sayLine("\nratios, medians over the rounds")
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
		tellRatio(l.what, l.a, l.b, l.want)
	}
	return nil
}

// singleLife enqueues, leases and settles jobs one a call, from 16 connections.
func singleLife(ctx context.Context, p *measure.Process) (int, error) {
	return together(ctx, 16, p, measure.Life(1))
}

// joinedLife does the same, and settles a job with the call that takes the next.
func joinedLife(ctx context.Context, p *measure.Process) (int, error) {
	return together(ctx, 16, p, measure.JoinedLife(16))
}

// singles measures whole lives one job a call, round by round.
func singles(ctx context.Context, p *measure.Process, _ string) error {
	var apart, joined measured
	for range *rounds {
		for into, do := range map[*measured]func(context.Context, *measure.Process) (int, error){&apart: singleLife, &joined: joinedLife} {
			cpu, began := p.CPU(), time.Now()
			n, err := do(ctx, p)
			if err != nil {
				return err
			}
			into.add(n, time.Since(began), p.CPU()-cpu)
		}
	}
	say("%-58s %10.0f %10.1f\n%-58s %10.0f %10.1f\n", "one a call, three calls", measure.Median(apart.rate), measure.Median(apart.cpuMicros), "settle and take in one", measure.Median(joined.rate), measure.Median(joined.cpuMicros))
	return nil
}

// deep measures whole lives by the hundred in front of a backlog.
func deep(ctx context.Context, p *measure.Process, _ string) error {
	for _, more := range []int{0, *backlog} {
		if err := fill(ctx, p, more); err != nil {
			return err
		}
		fmt.Fprintf(os.Stderr, "%d wait\n", more)
		var m measured
		for range *rounds {
			cpu, began := p.CPU(), time.Now()
			n, err := life(ctx, p)
			if err != nil {
				return err
			}
			m.add(n, time.Since(began), p.CPU()-cpu)
		}
		say("%-58s %10.0f %10.1f\n", fmt.Sprintf("a hundred a call, %d waiting", more), measure.Median(m.rate), measure.Median(m.cpuMicros))
	}
	return nil
}
