package harbour

import (
	"compress/gzip"
	"context"
	"fmt"
	"math/rand/v2"
	"time"

	"humblemule/worker"
)

// LogPack is the task that packs a day of the harbour's log. It takes long.
const LogPack = "log.pack"

// Logbook names the day to pack, and how many lines it has.
type Logbook struct {
	Date  string `json:"date"` // 2026-11-23
	Lines int    `json:"lines"`
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

func (w *World) packLog(ctx context.Context, l Logbook) (Packed, error) {
	day, err := time.Parse(time.DateOnly, l.Date)
	if err != nil || l.Lines < 1 || l.Lines > mostLines {
		return Packed{}, worker.GiveUp(&trouble{"logbook", fmt.Sprintf("no log of %q with %d lines can be packed", l.Date, l.Lines)})
	}
	random := rand.New(rand.NewPCG(uint64(day.Unix()), 0))
	var in, out counter
	z := gzip.NewWriter(&out)
	for n := range l.Lines {
		line := fmt.Sprintf("%s %s berth-%d %s\n", day.Add(time.Duration(n)*86400*time.Second/time.Duration(l.Lines)).Format(time.RFC3339), ships[random.IntN(len(ships))], 1+random.IntN(5), []string{"moored", "cast off", "fog signal", "pilot aboard"}[random.IntN(4)])
		in += counter(len(line))
		if _, err := z.Write([]byte(line)); err != nil {
			return Packed{}, err
		}
		if n%(l.Lines/20+1) == 0 { // the tape writes twenty blocks, each in its time
			if err := w.wait(ctx, 200*time.Millisecond, 500*time.Millisecond); err != nil {
				return Packed{}, err
			}
		}
	}
	if err := z.Close(); err != nil {
		return Packed{}, err
	}
	return Packed{Date: l.Date, From: int(in), To: int(out), Share: fmt.Sprintf("%.0f %%", 100*float64(out)/float64(in))}, nil
}
