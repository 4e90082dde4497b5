package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/measure"
	"humblemule.example/internal/proof"
	"humblemule.example/job"
)

// What hooks and calls are measured with.
const (
	hookKey    = "whsec_c2FsdG1hcnNoIGhhcmJvdXI="
	hookSender = 16
	hookConfig = `calls: {allow: [127.0.0.1], slots: 16}
secrets: {pilots: {env: BENCH_PILOTS, hooks: [arrivals]}}
hooks: {arrivals: {task: manifest.check, owner: {pointer: /agent}, proof: {kind: standard, secrets: [pilots]}}}
tasks: {dues.collect: {calls: {}}}
`
)

// inOut measures webhooks that come in beside enqueues of the same jobs through the API, and calls that go
// out beside a loop that makes them by hand.
func inOut(ctx context.Context, dir string) error {
	config := filepath.Join(dir, "hmule.yaml")
	if err := errors.Join(os.WriteFile(config, []byte(hookConfig), 0o600), os.Setenv("BENCH_PILOTS", hookKey)); err != nil {
		return err
	}
	p, err := measure.Serve(*program, filepath.Join(dir, "service.db"), "--config", config)
	if err != nil {
		return err
	}
	defer p.End()
	if err := webhooks(ctx, "http://"+p.Address); err != nil {
		return err
	}
	return calls(ctx, "http://"+p.Address)
}

// webhooks measures signed deliveries beside enqueues of what they become.
func webhooks(ctx context.Context, url string) error {
	var n atomic.Int64
	body := func() []byte {
		return fmt.Appendf(nil, `{"agent":"Heron & Sons","manifest":"heron-%07d","berth":3,"containers":412,"says":"expected on the next tide"}`, n.Add(1))
	}
	deliver := func(hc *http.Client) error {
		b := body()
		id := fmt.Sprintf("arr-%d", n.Load())
		r, err := http.NewRequestWithContext(ctx, http.MethodPost, url+"/hooks/arrivals", bytes.NewReader(b))
		if err != nil {
			return err
		}
		r.Header.Set("Content-Type", "application/json")
		proof.Sign(api.Proof{Kind: api.ProofStandard}, []byte(hookKey), r.Header, id+fmt.Sprint(time.Now().UnixNano()), b, time.Now())
		return sent(hc, r, http.StatusAccepted)
	}
	enqueue := func(hc *http.Client) error {
		b := body()
		spec := fmt.Appendf(nil, `{"task":"manifest.check","owner":"Heron & Sons","key":"arr-%d","labels":{"hook":"arrivals"},"payload":%s}`, time.Now().UnixNano(), b)
		r, err := http.NewRequestWithContext(ctx, http.MethodPost, url+"/v1/jobs", bytes.NewReader(spec))
		if err != nil {
			return err
		}
		r.Header.Set("Content-Type", "application/json")
		return sent(hc, r, http.StatusCreated)
	}
	var took, plain []float64
	for range *rounds {
		for _, of := range []struct {
			do   func(*http.Client) error
			into *[]float64
		}{{enqueue, &plain}, {deliver, &took}} {
			rate, err := sending(of.do)
			if err != nil {
				return err
			}
			*of.into = append(*of.into, rate)
		}
	}
	a, b := middle(took), middle(plain)
	say("webhooks of %d senders, with HMAC and ids:  %7.0f a second\nenqueues of the same jobs through the API: %7.0f a second\nratio %.2f\n\n", hookSender, a, b, a/b)
	return nil
}

// sending has senders do something for a round, and tells how often they did a second.
func sending(do func(*http.Client) error) (float64, error) {
	hc := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: hookSender}}
	defer hc.CloseIdleConnections()
	var done atomic.Int64
	var wrong atomic.Pointer[error]
	began := time.Now()
	var work sync.WaitGroup
	for range hookSender {
		work.Go(func() {
			for time.Since(began) < *span && wrong.Load() == nil {
				if err := do(hc); err != nil {
					wrong.Store(&err)
					return
				}
				done.Add(1)
			}
		})
	}
	work.Wait()
	if err := wrong.Load(); err != nil {
		return 0, *err
	}
	return float64(done.Load()) / time.Since(began).Seconds(), nil
}

// sent makes a request that must be answered by a status.
func sent(hc *http.Client, r *http.Request, status int) error {
	answer, err := hc.Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	said, err := io.ReadAll(answer.Body)
	if err == nil && answer.StatusCode != status {
		err = fmt.Errorf("%s: %s", answer.Status, said)
	}
	return err
}

// calls measures calls of jobs that wait beside a loop that makes the same requests by hand, and whether the
// rate of a queue holds.
func calls(ctx context.Context, url string) error {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	var came atomic.Int64
	var mu sync.Mutex
	var times []time.Time
	srv := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		io.Copy(io.Discard, r.Body)
		came.Add(1)
		if r.URL.Path == "/paced" {
			mu.Lock()
			times = append(times, time.Now())
			mu.Unlock()
		}
		w.Header().Set("Content-Type", "application/json")
		io.WriteString(w, `{"charged":true}`)
	})}
	go srv.Serve(l)
	defer srv.Close()
	to := "http://" + l.Addr().String()
	m, err := client.New(url)
	if err != nil {
		return err
	}
	defer m.Close()
	const many = 10_000
	enqueue := func(n int, queue, path string) error {
		specs := make([]job.Spec, n)
		for i := range specs {
			specs[i] = job.Spec{Task: "dues.collect", Queue: queue, Call: &job.Call{URL: to + path, Body: job.JSON(i)}}
		}
		_, err := m.EnqueueMany(ctx, specs)
		return err
	}
	var byService, byHand []float64
	for range *rounds {
		rate, err := sending(func(hc *http.Client) error {
			r, err := http.NewRequestWithContext(ctx, http.MethodPost, to+"/hand", bytes.NewReader([]byte("1")))
			if err != nil {
				return err
			}
			r.Header.Set("Content-Type", "application/json")
			return sent(hc, r, http.StatusOK)
		})
		if err != nil {
			return err
		}
		byHand = append(byHand, rate)
		came.Store(0)
		if _, err := m.PauseQueue(ctx, "calls"); err != nil && !errors.Is(err, job.ErrNotFound) {
			return err
		}
		if err := enqueue(many, "calls", "/service"); err != nil {
			return err
		}
		began := time.Now()
		if _, err := m.ResumeQueue(ctx, "calls"); err != nil {
			return err
		}
		for came.Load() < many {
			time.Sleep(time.Millisecond)
		}
		byService = append(byService, many/time.Since(began).Seconds())
	}
	a, b := middle(byService), middle(byHand)
	say("calls of the service, 16 slots:        %7.0f a second\nthe same requests by a loop in Go:     %7.0f a second\nratio %.2f\n\n", a, b, a/b)

	const perSecond, burst, paced = 50, 5, 200
	if _, err := m.PutQueue(ctx, "paced", api.Defaults{Rules: api.Rules{Rate: &api.Rate{PerSecond: perSecond, Burst: new(burst)}}}); err != nil {
		return err
	}
	if err := enqueue(paced, "paced", "/paced"); err != nil {
		return err
	}
	for {
		mu.Lock()
		n := len(times)
		mu.Unlock()
		if n == paced {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	worst := 0
	for i := range times { // how many within each second that begins with one
		n := 0
		for _, t := range times[i:] {
			if t.Sub(times[i]) < time.Second {
				n++
			}
		}
		worst = max(worst, n)
	}
	took := times[paced-1].Sub(times[0])
	say("a queue of %d a second, bursts of %d: %d calls took %.2f s (%.2f at the rate); %d at most within a second\n", perSecond, burst, paced, took.Seconds(), float64(paced-burst)/perSecond, worst)
	return nil
}

// middle is the median.
func middle(all []float64) float64 {
	all = slices.Sorted(slices.Values(all))
	return all[len(all)/2]
}
