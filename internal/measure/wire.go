package measure

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
)

// Connection is a plain HTTP/1.1 connection that costs the machine little, so that what is
// measured is the service.
type Connection struct {
	c net.Conn
	r *bufio.Reader
}

// Dial opens a connection to an address.
func Dial(address string) (*Connection, error) {
	c, err := net.Dial("tcp", address)
	if err != nil {
		return nil, err
	}
	return &Connection{c, bufio.NewReaderSize(c, 64<<10)}, nil
}

// Close closes it.
func (c *Connection) Close() error { return c.c.Close() }

// Request is a POST as it is sent.
func Request(path, media, body string) []byte {
	return fmt.Appendf(nil, "POST %s HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Type: %s\r\nContent-Length: %d\r\n\r\n%s", path, media, len(body), body)
}

// The media types of requests.
const (
	JSON   = "application/json"
	NDJSON = "application/x-ndjson"
)

// Post sends a request and answers the body of what comes back. Another status is an error.
func (c *Connection) Post(raw []byte, status int) ([]byte, error) {
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

// Work does a piece of work over a connection, by one of several workers, and tells how many
// jobs that were.
type Work func(worker int, c *Connection) (jobs int, err error)

// Together has so many workers, with a connection each, do pieces of work for a span, and
// counts the jobs; took is how long each piece took, in ms.
func Together(ctx context.Context, address string, connections int, span time.Duration, do Work) (jobs int, took []float64, err error) {
	ctx, cancel := context.WithTimeout(ctx, span)
	defer cancel()
	type done struct {
		jobs int
		took []float64
		err  error
	}
	each := make([]done, connections)
	var all sync.WaitGroup
	for w := range connections {
		c, err := Dial(address)
		if err != nil {
			return 0, nil, err
		}
		all.Go(func() {
			defer c.Close()
			d := &each[w]
			for ctx.Err() == nil && d.err == nil {
				began := time.Now()
				n, err := do(w, c)
				d.jobs, d.err = d.jobs+n, err
				d.took = append(d.took, time.Since(began).Seconds()*1000)
			}
		})
	}
	all.Wait()
	for i := range each {
		jobs, took = jobs+each[i].jobs, append(took, each[i].took...)
		if err == nil {
			err = each[i].err
		}
	}
	return jobs, took, err
}

// The payload and the spec of the jobs that are measured.
var (
	payload = `{"station":"inner-quay","note":"` + strings.Repeat("x", 158) + `"}`
	spec    = `{"task":"tide.predict","payload":` + payload + `}`
)

// Payload is that of the jobs which are measured, of 200 bytes, as JSON.
func Payload() string { return payload }

// Spec is a job that is measured, as JSON.
func Spec() string { return spec }

// Single enqueues a job.
func Single() Work {
	raw := Request("/v1/jobs", JSON, spec)
	return func(_ int, c *Connection) (int, error) {
		_, err := c.Post(raw, http.StatusCreated)
		return 1, err
	}
}

// Bulk enqueues so many jobs at once.
func Bulk(lines int) Work {
	raw := Request("/v1/jobs/bulk", NDJSON, strings.Repeat(spec+"\n", lines))
	return func(_ int, c *Connection) (int, error) {
		_, err := c.Post(raw, http.StatusCreated)
		return lines, err
	}
}

// Sized enqueues a job whose payload is a text of so many bytes.
func Sized(bytes int) Work {
	raw := Request("/v1/jobs", JSON, fmt.Sprintf(`{"task":"log.pack","payload":%q}`, strings.Repeat("x", bytes-2)))
	return func(_ int, c *Connection) (int, error) {
		_, err := c.Post(raw, http.StatusCreated)
		return 1, err
	}
}

// Life enqueues, takes and settles so many jobs, in a call each.
func Life(atOnce int) Work {
	enqueue := Bulk(atOnce)
	if atOnce == 1 {
		enqueue = Single()
	}
	return func(worker int, c *Connection) (int, error) {
		if _, err := enqueue(worker, c); err != nil {
			return 0, err
		}
		tokens, err := take(c, worker, `"common"`, atOnce, "")
		if err != nil || len(tokens) == 0 {
			return 0, err
		}
		return len(tokens), settle(c, tokens)
	}
}

// LifeAmong is Life of jobs that are spread over so many queues: a call's over as many of them
// as it has jobs, and the next call's over the next ones.
func LifeAmong(queues, atOnce int) Work {
	type call struct {
		enqueue []byte
		queues  string
	}
	var calls []call
	for first := 0; first < queues; first += atOnce {
		var lines, names strings.Builder
		here := min(atOnce, queues-first)
		for i := range atOnce {
			name := fmt.Sprintf(`"queue-%d"`, first+i%here)
			fmt.Fprintf(&lines, `{"task":"tide.predict","queue":%s,"payload":%s}`+"\n", name, payload)
			if i < here {
				names.WriteString(name + ",")
			}
		}
		calls = append(calls, call{Request("/v1/jobs/bulk", NDJSON, lines.String()), strings.TrimSuffix(names.String(), ",")})
	}
	var next atomic.Int64
	return func(worker int, c *Connection) (int, error) {
		its := &calls[int(next.Add(1))%len(calls)]
		if _, err := c.Post(its.enqueue, http.StatusCreated); err != nil {
			return 0, err
		}
		tokens, err := take(c, worker, its.queues, atOnce, "")
		if err != nil || len(tokens) == 0 {
			return 0, err
		}
		return len(tokens), settle(c, tokens)
	}
}

// settle says that the jobs of leases are done.
func settle(c *Connection, tokens []string) error {
	_, err := c.Post(Request("/v1/leases/settle", JSON, `{"leases":`+settlements(tokens)+`}`), http.StatusOK)
	return err
}

// JoinedLife enqueues and takes a job a call, and settles each with the call that takes the
// next, by at most so many workers.
func JoinedLife(workers int) Work {
	enqueue, held := Single(), make([][]string, workers)
	return func(worker int, c *Connection) (int, error) {
		if _, err := enqueue(worker, c); err != nil {
			return 0, err
		}
		settle := ""
		if len(held[worker]) > 0 {
			settle = `,"settle":` + settlements(held[worker])
		}
		tokens, err := take(c, worker, `"common"`, 1, settle)
		n := len(held[worker])
		held[worker] = tokens
		return n, err
	}
}

func take(c *Connection, worker int, queues string, limit int, settle string) (tokens []string, err error) {
	body, err := c.Post(Request("/v1/leases", JSON, fmt.Sprintf(`{"worker":"bench-%d","queues":[%s],"limit":%d%s}`, worker, queues, limit, settle)), http.StatusOK)
	leases, _, _ := bytes.Cut(body, []byte(`"results":`)) // what was settled has tokens too
	return tokensIn(leases), err
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
