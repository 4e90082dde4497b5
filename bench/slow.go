package main

import (
	"context"
	_ "embed"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"humblemule.example/internal/measure"
)

//go:embed testdata/slow.c
var slowSource []byte

// slow measures whole lives, and single enqueues, beside PostgreSQL with the usual loop, while
// each sync of either takes 2 ms more: this machine's disk answers sooner than most.
func slow(ctx context.Context, dir string) error {
	shim, err := slowShim(dir)
	if err != nil {
		return err
	}
	if err := os.Setenv("LD_PRELOAD", shim); err != nil {
		return err
	}
	mule, err := measure.Serve(*program, filepath.Join(dir, "slow.db"))
	if err == nil {
		defer mule.End()
	}
	var loops *loops
	if err == nil {
		if loops, err = startLoops(ctx, dir); err == nil {
			defer loops.end()
		}
	}
	os.Unsetenv("LD_PRELOAD")
	if err != nil {
		return err
	}
	var single, hundred, one, joined, loopHundred, loopOne measured
	for range *rounds {
		for _, m := range []struct {
			into *measured
			do   func(context.Context) (int, error)
		}{
			{&single, func(ctx context.Context) (int, error) { return enqueue(ctx, mule) }},
			{&hundred, func(ctx context.Context) (int, error) { return life(ctx, mule) }},
			{&loopHundred, loops.lives(batch)},
			{&one, func(ctx context.Context) (int, error) { return singleLife(ctx, mule) }},
			{&joined, func(ctx context.Context) (int, error) { return joinedLife(ctx, mule) }},
			{&loopOne, loops.lives(1)},
		} {
			began := time.Now()
			n, err := m.do(ctx)
			if err != nil {
				return err
			}
			m.into.add(n, time.Since(began), 0)
		}
	}
	say("%-58s %10s\n", "with 2 ms more for each sync", "jobs/s")
	for _, l := range []struct {
		what string
		m    measured
	}{
		{"single enqueues, 64 connections", single},
		{"whole lives, a hundred a call, 8 connections", hundred}, {"PostgreSQL loop, a hundred a call, 8 clients", loopHundred},
		{"whole lives, one a call, 16 connections, three calls", one}, {"whole lives, one a call, settle and take in one", joined}, {"PostgreSQL loop, one a call, 8 clients", loopOne},
	} {
		say("%-58s %10.0f\n", l.what, measure.Median(l.m.rate))
	}
	sayLine("\nratios, medians over the rounds")
	tellRatio("a hundred a call / PostgreSQL loop", hundred, loopHundred, "")
	tellRatio("one a call, three calls / PostgreSQL loop", one, loopOne, "")
	tellRatio("one a call, settle and take in one / PostgreSQL loop", joined, loopOne, "")
	return nil
}

// tellRatio tells the median of the ratios of the rounds.
func tellRatio(what string, a, b measured, want string) {
	all := make([]float64, len(a.rate))
	for i := range all {
		all[i] = a.rate[i] / b.rate[i]
	}
	say("%-58s %10.2f   %s\n", what, measure.Median(all), want)
}

// slowShim compiles what makes syncs slower.
func slowShim(dir string) (string, error) {
	source, shim := filepath.Join(dir, "slow.c"), filepath.Join(dir, "slow.so")
	if err := os.WriteFile(source, slowSource, 0o644); err != nil {
		return "", err
	}
	if out, err := exec.Command("cc", "-shared", "-fPIC", "-O2", "-o", shim, source, "-ldl").CombinedOutput(); err != nil {
		return "", fmt.Errorf("cc: %w\n%s", err, out)
	}
	return shim, os.Chmod(dir, 0o755) // PostgreSQL runs as another user
}
