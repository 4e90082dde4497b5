package harbour

import (
	"compress/gzip"
	"context"
	"fmt"
	"math/rand/v2"
	"time"

	"humblemule.example/worker"
)

// LogPack is the task that packs a day of the harbour's log. It takes long.
const LogPack = "log.pack"

// Logbook names the day to pack, and how many lines it has.
type Logbook struct {
	Date  string `json:"date"` // 2026-11-23
	Lines int    `json:"lines"`
	// TapeMinutes is how long the tape takes; 0 means some seconds.
	TapeMinutes int `json:"tape_minutes,omitempty"`
}

// Packed is what became of it.
type Packed struct {
	Date  string `json:"date"`
	From  int    `json:"from_bytes"`
	To    int    `json:"to_bytes"`
	Share string `json:"share"`
}

// counter counts the bytes written to it.
type counter int

func (c *counter) Write(p []byte) (int, error) {
	*c += counter(len(p))
	return len(p), nil
}

// mostLines bounds a day's log.
const mostLines = 1_000_000

// blocks is how many the tape writes, each in its time.
const blocks = 20

func (w *World) writeBlock(ctx context.Context, l Logbook) error {
	if l.TapeMinutes == 0 {
		return w.wait(ctx, 200*time.Millisecond, 500*time.Millisecond)
	}
	select {
	case <-time.After(time.Duration(l.TapeMinutes) * time.Minute / blocks):
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

func (w *World) packLog(ctx context.Context, l Logbook) (Packed, error) {
	day, err := time.Parse(time.DateOnly, l.Date)
	if err != nil || l.Lines < 1 || l.Lines > mostLines {
		return Packed{}, worker.GiveUp(&trouble{"logbook", fmt.Sprintf("no log of %q with %d lines can be packed", l.Date, l.Lines)})
	}
	run := worker.Job(ctx)
	run.Log("the tape of %s is threaded", l.Date)
	random := rand.New(rand.NewPCG(uint64(day.Unix()), 0))
	var in, out counter
	z := gzip.NewWriter(&out)
	for n := range l.Lines {
		line := fmt.Sprintf("%s %s berth-%d %s\n", day.Add(time.Duration(n)*86400*time.Second/time.Duration(l.Lines)).Format(time.RFC3339), ships[random.IntN(len(ships))], 1+random.IntN(5), []string{"moored", "cast off", "fog signal", "pilot aboard"}[random.IntN(4)])
		in += counter(len(line))
		if _, err := z.Write([]byte(line)); err != nil {
			return Packed{}, err
		}
		if n%(l.Lines/blocks+1) == 0 {
			block := n/(l.Lines/blocks+1) + 1
			run.Progress(float64(100*(block-1)/blocks), fmt.Sprintf("block %d of %d", block, blocks))
			if err := w.writeBlock(ctx, l); err != nil {
				return Packed{}, err
			}
			worker.Logger(ctx).Info("block written", "block", block, "lines", n)
		}
	}
	if err := z.Close(); err != nil {
		return Packed{}, err
	}
	run.Progress(100, "the tape is rewound")
	return Packed{Date: l.Date, From: int(in), To: int(out), Share: fmt.Sprintf("%.0f %%", 100*float64(out)/float64(in))}, nil
}
