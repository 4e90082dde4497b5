package main

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"humblemule/client"
	"humblemule/internal/core/store"
	"humblemule/job"
)

// connection is a plain HTTP/1.1 connection that costs the machine little, so
// that what is measured is the service.
type connection struct {
	c net.Conn
	r *bufio.Reader
}

func dial(address string) (*connection, error) {
	c, err := net.Dial("tcp", address)
	if err != nil {
		return nil, err
	}
	return &connection{c, bufio.NewReaderSize(c, 64<<10)}, nil
}

func request(path, media, body string) []byte {
	return fmt.Appendf(nil, "POST %s HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Type: %s\r\nContent-Length: %d\r\n\r\n%s", path, media, len(body), body)
}

// post sends a request and answers the body of what comes back.
func (c *connection) post(raw []byte, status int) ([]byte, error) {
	if _, err := c.c.Write(raw); err != nil {
		return nil, err
	}
	resp, err := http.ReadResponse(c.r, nil)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(resp.Body)
	if err == nil && resp.StatusCode != status {
		err = fmt.Errorf("answered %s: %.200s", resp.Status, body)
	}
	return body, err
}

// together runs do on so many connections until the span is over, and counts the
// pieces of work done.
func together(ctx context.Context, connections int, p *process, do func(worker int, c *connection) (int, error)) (int, error) {
	ctx, cancel := context.WithTimeout(ctx, *span)
	defer cancel()
	var done atomic.Int64
	var failed atomic.Pointer[error]
	var all sync.WaitGroup
	for w := range connections {
		c, err := dial(p.address)
		if err != nil {
			return 0, err
		}
		all.Go(func() {
			defer c.c.Close()
			for ctx.Err() == nil {
				n, err := do(w, c)
				if err != nil {
					failed.Store(&err)
					return
				}
				done.Add(int64(n))
			}
		})
	}
	all.Wait()
	if err := failed.Load(); err != nil {
		return 0, *err
	}
	return int(done.Load()), nil
}

// enqueue hands over single jobs from 64 connections.
func enqueue(ctx context.Context, p *process) (int, error) {
	raw := request("/v1/jobs", "application/json", enqueueBody)
	return together(ctx, 64, p, func(_ int, c *connection) (int, error) {
		_, err := c.post(raw, http.StatusCreated)
		return 1, err
	})
}

// batch is how many jobs a call of the whole life carries.
const batch = 100

// life enqueues, leases and settles jobs, a hundred a call, from 8 connections.
func life(ctx context.Context, p *process) (int, error) {
	bulk := request("/v1/jobs", "application/x-ndjson", strings.Repeat(enqueueBody+"\n", batch))
	return together(ctx, 8, p, func(w int, c *connection) (int, error) {
		if _, err := c.post(bulk, http.StatusCreated); err != nil {
			return 0, err
		}
		body, err := c.post(request("/v1/leases", "application/json", fmt.Sprintf(`{"worker":"bench-%d","queues":["common"],"limit":%d}`, w, batch)), http.StatusOK)
		if err != nil {
			return 0, err
		}
		tokens := tokensIn(body)
		_, err = c.post(request("/v1/leases/settle", "application/json", `{"leases":`+settlements(tokens)+`}`), http.StatusOK)
		return len(tokens), err
	})
}

// tokensIn finds the tokens of an answer's leases. To parse it costs the machine more than the
// service, of which the rest is measured here.
func tokensIn(answer []byte) (all []string) {
	for {
		_, rest, found := bytes.Cut(answer, []byte(`"token":"`))
		if !found {
			return all
		}
		token, after, _ := bytes.Cut(rest, []byte(`"`))
		all, answer = append(all, string(token)), after
	}
}

// settlements says that the jobs of leases are done.
func settlements(tokens []string) string {
	return `[{"token":"` + strings.Join(tokens, `","outcome":"done"},{"token":"`) + `","outcome":"done"}]`
}

// direct executes the statements of a job's life straight through the driver, in
// one thread and in batches of the same size.
type direct struct {
	s    *store.Store
	next int64
}

func openDirect(path string) (*direct, error) {
	s, err := store.Open(path)
	return &direct{s: s, next: 1}, err
}

func (d *direct) close() { d.s.Close() }

func (d *direct) lives(span time.Duration) (n int, err error) {
	for began := time.Now(); time.Since(began) < span; n += batch {
		if err := d.batch(); err != nil {
			return n, err
		}
		if err := d.s.Checkpoint(false); err != nil {
			return n, err
		}
	}
	return n, nil
}

func (d *direct) batch() error {
	now := job.At(time.Now())
	for range batch {
		r := &store.Row{ID: d.next, Queue: 1, Task: 1, State: job.Ready, Priority: 4, Level: 4, Rank: d.next, Policy: 1, EnqueuedAt: now, ReadyAt: now, PayloadBytes: len(enqueueBody), Payload: []byte(enqueueBody)}
		d.next++
		if err := d.s.InsertJob(r); err != nil {
			return err
		}
	}
	if err := d.s.Commit(); err != nil {
		return err
	}
	rows, err := d.s.Heads(1, 1, batch)
	if err != nil {
		return err
	}
	for _, r := range rows {
		r.Attempt, r.Tries, r.StartedAt, r.Worker, r.Token, r.LeasedAt, r.LeaseMS = 1, 1, now, 1, r.ID, now, 45_000
		if err := d.s.Lease(r); err != nil {
			return err
		}
	}
	if err := d.s.Commit(); err != nil {
		return err
	}
	for _, r := range rows {
		r.State, r.FinishedAt = job.Done, now
		if err := d.s.Finish(r); err != nil {
			return err
		}
	}
	return d.s.Commit()
}

// serve starts a service on a data file, and gives a client of it and what ends both.
func serve(data string) (*client.Client, func(), error) {
	p, err := start(*program, "serve", "--data", data, "--listen")
	if err != nil {
		return nil, nil, err
	}
	m, err := client.New(p.address, client.HTTPClient(&http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 64}}))
	if err != nil {
		p.end()
		return nil, nil, err
	}
	return m, func() {
		m.Close()
		p.end()
	}, nil
}
