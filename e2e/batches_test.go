package e2e

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/job"
	"humblemule.example/worker"
)

// A voyage: manifests are checked, with their results a berth is planned, and when all is over somebody
// is told how it went; whoever waits for the batch hears of its end.
func TestBatchOfHandlers(t *testing.T) {
	t.Parallel()
	s := serve(t)
	m := s.mule()
	pool := worker.New(m.Source(), worker.Options{Name: "quay", Slots: 4})
	worker.Handle(pool, "manifest.check", func(_ context.Context, tons int) (int, error) {
		if tons < 0 {
			return 0, worker.GiveUp(errors.New("no ship weighs less than nothing"))
		}
		return tons, nil
	})
	worker.Handle(pool, "berth.plan", func(ctx context.Context, _ string) (int, error) {
		all, err := worker.Inputs[int](ctx, "")
		if err != nil {
			return 0, err
		}
		south, err := worker.Inputs[int](ctx, "south")
		if err != nil || len(south) != 1 {
			return 0, fmt.Errorf("south: %v %v", south, err)
		}
		sum := 0
		for _, tons := range all {
			sum += tons
		}
		return sum, nil
	})
	worker.Handle(pool, "notice.publish", func(ctx context.Context, _ string) (map[job.State]int64, error) {
		return worker.Job(ctx).Batch.Counts, nil
	})
	running, end := context.WithCancel(t.Context())
	var done sync.WaitGroup
	done.Go(func() { pool.Run(running) })
	defer func() {
		end()
		done.Wait()
	}()
	voyage := client.NewBatch("voyage 12").For("Heron Lines").Label("ship", "heron")
	north := voyage.Add(job.Spec{Task: "manifest.check", Payload: job.JSON(1200)})
	south := voyage.AddAs("south", job.Spec{Task: "manifest.check", Payload: job.JSON(-1)})
	berth := voyage.Add(job.Spec{Task: "berth.plan", Payload: job.JSON("heron")}, north, south)
	voyage.Add(job.Spec{Task: "manifest.check", Payload: job.JSON(7)}, berth)
	b, err := m.Start(t.Context(), voyage.Last(job.Spec{Task: "notice.publish", Payload: job.JSON("heron")}))
	require.NoError(t, err)
	var heard api.Batch
	var waits sync.WaitGroup
	waits.Go(func() { heard, _ = m.WaitForBatch(t.Context(), b.ID, time.Minute) })
	assert.Eventually(t, func() bool {
		b, err := m.Batch(t.Context(), b.ID)
		return err == nil && b.State == api.BatchStuck && strings.HasPrefix(b.Summary, "3 jobs wait in vain for job ")
	}, 20*time.Second, 10*time.Millisecond)
	_, err = m.RequeueJob(t.Context(), b.IDs[1], api.Requeue{Payload: job.JSON(800)})
	require.NoError(t, err)
	waits.Wait()
	assert.Equal(t, []any{api.BatchDone, map[job.State]int64{job.Done: 5}}, []any{heard.State, heard.Counts})
	planned, err := m.Job(t.Context(), b.IDs[2])
	require.NoError(t, err)
	assert.Equal(t, "2000", string(planned.Result))
	last, err := m.Job(t.Context(), b.Last)
	require.NoError(t, err)
	assert.JSONEq(t, `{"done":4}`, string(last.Result))
	page, err := m.ListJobs(t.Context(), api.Filter{Batch: b.ID})
	require.NoError(t, err)
	assert.Len(t, page.Jobs, 5)
}

// A schedule starts a batch, whose first job adds the parts of a manifest that it finds. Whoever follows its
// owner hears of each job, and of the end; the owner's view tells how it stands.
func TestBatchThatGrows(t *testing.T) {
	t.Parallel()
	s := serve(t)
	m := s.mule()
	ctx, end := context.WithCancel(t.Context())
	var done sync.WaitGroup
	defer done.Wait()
	defer end()
	pool := worker.New(m.Source(), worker.Options{Name: "quay", Slots: 4, Queues: []string{"common"}})
	worker.Handle(pool, "manifest.split", func(ctx context.Context, _ string) (int, error) {
		j := worker.Job(ctx)
		return 2, errors.Join(
			j.AddToBatch("part-1", job.Spec{Task: "manifest.check", Payload: job.JSON(1)}),
			j.FollowUpJSON([]byte(`{"task":"manifest.check","payload":2,"ref":"part-2","join":true,"after":{"refs":["part-1"]}}`)),
			j.FollowUp(job.Spec{Task: "log.pack", Queue: "archive"}),
		)
	})
	worker.Handle(pool, "manifest.check", func(_ context.Context, n int) (int, error) { return n, nil })
	worker.Handle(pool, "notice.publish", func(ctx context.Context, _ string) (map[job.State]int64, error) {
		return worker.Job(ctx).Batch.Counts, worker.Job(ctx).AddToBatch("more", job.Spec{Task: "Not A Name"})
	})

	type told struct {
		Batches []struct {
			ID    int64
			State api.BatchState
		}
		Jobs []struct{ ID int64 }
	}
	reset, over := make(chan struct{}), make(chan int64, 1)
	seen := map[int64]bool{}
	done.Go(func() {
		m.EventsOf(ctx, api.EventFilter{Owner: "Heron Lines"}, func(e client.Event) error {
			var news told
			if err := json.Unmarshal(e.Data, &news); err != nil {
				return err
			}
			switch e.Name {
			case "reset":
				close(reset)
			case "jobs":
				for _, j := range news.Jobs {
					seen[j.ID] = true
				}
			case "batches":
				for _, b := range news.Batches {
					if b.State.Over() {
						over <- b.ID
						return errors.New("that was all")
					}
				}
			default:
				t.Errorf("what is followed tells of %s", e.Name)
			}
			return nil
		})
	})
	<-reset
	_, err := m.PutSchedule(ctx, "manifests", api.Schedule{Cron: "30 3 * * *", Batch: &api.NewBatch{Name: "manifests", Owner: "Heron Lines", Jobs: []api.BatchJob{{Ref: "all", Spec: job.Spec{Task: "manifest.split", Payload: job.JSON("heron")}}}, Last: &job.Spec{Task: "notice.publish", Payload: job.JSON("heron"), MaxAttempts: new(1)}}})
	require.NoError(t, err)
	ran, err := m.RunSchedule(ctx, "manifests")
	require.NoError(t, err)
	waiting, err := m.Owner(ctx, "Heron Lines")
	require.NoError(t, err)
	assert.Len(t, waiting.Waiting, 2)
	require.Len(t, waiting.Batches, 1)
	assert.Equal(t, ran.Last.Batch, waiting.Batches[0].ID)
	done.Go(func() { pool.Run(ctx) })
	assert.Equal(t, ran.Last.Batch, <-over)
	b, err := m.Batch(ctx, ran.Last.Batch)
	require.NoError(t, err)
	assert.Equal(t, []any{api.BatchFailed, int64(4), map[job.State]int64{job.Done: 3, job.Dead: 1}}, []any{b.State, b.Jobs, b.Counts}, "what the last job adds is refused before it is told")
	o, err := m.Owner(ctx, "Heron Lines")
	require.NoError(t, err)
	assert.Equal(t, []int{0, 0, 4, 0}, []int{len(o.Running), len(o.Waiting), len(o.Finished), len(o.Batches)})
	for _, j := range o.Finished {
		assert.True(t, seen[j.ID], "job %d was not told of", j.ID)
	}
	stdout, _, status := run(t, s.url, "owner", "show", "Heron Lines")
	assert.Zero(t, status)
	assert.Contains(t, stdout, "3 done, 1 dead")
	stdout, _, status = run(t, s.url, "schedule", "show", "manifests")
	assert.Zero(t, status)
	assert.Contains(t, stdout, "manifests, 2 jobs, the last one notice.publish in queue of its task")
	for query, want := range map[string]int{"batch=99": 404, "batch=x": 422, "owner=": 422, "owner=a&key=b": 422, "tusk=1": 422} {
		assert.Equal(t, want, s.ask("GET", "/v1/events?"+query, "").status, query)
	}
}

// A batch comes as lines too; what is wrong with it is named by its line.
func TestBatchOfLines(t *testing.T) {
	t.Parallel()
	s := serve(t)
	lines := func(all ...string) answer {
		return s.ask("POST", "/v1/batches", strings.Join(all, "\n"), "Content-Type: application/x-ndjson")
	}
	made := lines(`{"name":"manifests","last":{"task":"notice.publish"}}`, ``, `{"ref":"a","task":"manifest.check","payload":1.0}`, `{"task":"berth.plan","after":{"refs":["a"]}}`)
	assert.Equal(t, 201, made.status, made.body)
	assert.Contains(t, made.body, `"counts":{"held":2,"ready":1}`)
	for says, wrong := range map[string][]string{
		`"line 3: after.refs[0]"`: {`{}`, `{"task":"a"}`, `{"task":"b","after":{"refs":["x"]}}`},
		`"line 2: tusk"`:          {`{}`, `{"tusk":"a"}`},
		`come one a line`:         {`{"jobs":[]}`},
		`line 2: the body is not`: {`{}`, `{"task":`},
		`"line 2: retry.first"`:   {`{}`, `{"task":"a","retry":{"first":"0s"}}`},
		`at least one job`:        {`{}`},
	} {
		got := lines(wrong...)
		assert.Contains(t, got.body, says)
		assert.GreaterOrEqual(t, got.status, 400)
	}
	assert.Equal(t, 422, s.ask("GET", "/v1/batches?state=lost", "").status)
	assert.Equal(t, 404, s.ask("GET", "/v1/batches/77", "").status)
	assert.Equal(t, 404, s.ask("POST", "/v1/batches/77/close", "").status)

	file := filepath.Join(t.TempDir(), "voyage.ndjson")
	require.NoError(t, os.WriteFile(file, []byte("{\"name\":\"voyage\"}\n{\"ref\":\"a\",\"task\":\"tide.predict\",\"after\":{\"refs\":[\"b\"]}}\n{\"ref\":\"b\",\"task\":\"tide.predict\",\"after\":{\"refs\":[\"a\"]}}\n"), 0o600))
	_, stderr, status := run(t, s.url, "batch", "run", file, "--dry-run")
	assert.Equal(t, 1, status)
	assert.Contains(t, stderr, "line 2: after.refs is in a cycle of jobs that wait for one another: a after b after a")
}

// The service is killed again and again while batches run: each job starts only after those that it
// waits for are done, and each last job runs once, after all others.
func TestBatchesOverKills(t *testing.T) {
	t.Parallel()
	s := serve(t)
	m := s.mule()
	var mu sync.Mutex
	needs, done := map[string][]string{}, map[string]bool{}
	lasts := map[int64]int{}
	var wrong []string
	pool := worker.New(m.Source(), worker.Options{Name: "quay", Slots: 8, Lease: 5 * time.Second})
	worker.Handle(pool, "manifest.check", func(_ context.Context, name string) (string, error) {
		mu.Lock()
		defer mu.Unlock()
		for _, n := range needs[name] {
			if !done[n] {
				wrong = append(wrong, name+" started before "+n)
			}
		}
		done[name] = true
		return name, nil
	})
	worker.Handle(pool, "notice.publish", func(ctx context.Context, of int) (int64, error) {
		j := worker.Job(ctx)
		mu.Lock()
		defer mu.Unlock()
		lasts[j.Batch.ID]++
		if n := j.Batch.Counts[job.Done]; n != int64(of) || len(j.Batch.Counts) != 1 {
			wrong = append(wrong, fmt.Sprintf("the last job of batch %d ran after %v of %d", j.Batch.ID, j.Batch.Counts, of))
		}
		return 0, nil
	})
	running, end := context.WithCancel(t.Context())
	var ended sync.WaitGroup
	ended.Go(func() { pool.Run(running) })
	defer func() {
		end()
		ended.Wait()
	}()
	draw := rand.New(rand.NewPCG(6853, 18))
	var ids []int64
	for n := range 12 {
		b := client.NewBatch(fmt.Sprint("voyage ", n))
		of := 10 + draw.IntN(30)
		refs := make([]client.Ref, of)
		for i := range of {
			name := fmt.Sprintf("%d-%d", n, i)
			var after []client.Ref
			for range draw.IntN(4) {
				if i > 0 {
					at := draw.IntN(i)
					if before := fmt.Sprintf("%d-%d", n, at); !slices.Contains(needs[name], before) {
						mu.Lock()
						needs[name] = append(needs[name], before)
						mu.Unlock()
						after = append(after, refs[at])
					}
				}
			}
			refs[i] = b.Add(job.Spec{Task: "manifest.check", Payload: job.JSON(name)}, after...)
		}
		made, err := m.Start(t.Context(), b.Last(job.Spec{Task: "notice.publish", Payload: job.JSON(of)}))
		require.NoError(t, err)
		ids = append(ids, made.ID)
		if n%3 == 2 {
			s.kill()
			s.start()
		}
	}
	for _, id := range ids {
		b, err := m.WaitForBatch(t.Context(), id, time.Minute)
		require.NoError(t, err)
		assert.Equal(t, api.BatchDone, b.State, "batch %d: %v", id, b.Counts)
	}
	mu.Lock()
	defer mu.Unlock()
	assert.Empty(t, wrong)
	for _, id := range ids {
		assert.GreaterOrEqual(t, lasts[id], 1)
		last, err := m.ListJobs(t.Context(), api.Filter{Batch: id, Tasks: []string{"notice.publish"}})
		require.NoError(t, err)
		require.Len(t, last.Jobs, 1)
		assert.Equal(t, job.Done, last.Jobs[0].State)
	}
}

// A person sees that a batch is stuck, on which job it hangs and what waits for that, requeues it and sees
// the rest go on; another is let go on without what it waits for.
func TestBatchesPage(t *testing.T) {
	t.Parallel()
	s := serve(t)
	m := s.mule(client.HTTPClient(newHTTP()))
	p := open(t, s.url+"/batches")
	p.says("There is no batch.")
	pool := worker.New(m.Source(), worker.Options{Name: "quay", Slots: 2})
	var mended atomic.Bool
	worker.Handle(pool, "manifest.check", func(_ context.Context, name string) (string, error) {
		if name == "south" && !mended.Load() {
			return "", worker.GiveUp(errors.New("the manifest is malformed"))
		}
		return name, nil
	})
	running, end := context.WithCancel(t.Context())
	var ended sync.WaitGroup
	ended.Go(func() { pool.Run(running) })
	defer func() {
		end()
		ended.Wait()
	}()
	voyage := client.NewBatch("voyage 12")
	north, south := voyage.Add(job.Spec{Task: "manifest.check", Payload: job.JSON("north")}), voyage.AddAs("south", job.Spec{Task: "manifest.check", Payload: job.JSON("south")})
	voyage.Add(job.Spec{Task: "manifest.check", Payload: job.JSON("berth")}, north, south)
	b, err := m.Start(t.Context(), voyage.Last(job.Spec{Task: "manifest.check", Payload: job.JSON("notice")}))
	require.NoError(t, err)
	p.do(chromedp.Navigate(s.url + "/batches"))
	p.says("1 batch, of which 1 is stuck: nothing in it goes on until somebody acts.")
	p.do(chromedp.Click(chromedp.CSS("tr[data-batch]")))
	p.says(fmt.Sprintf("2 jobs wait in vain for job %d (manifest.check, dead): requeue it", b.IDs[1]))
	p.says("What waits for what, from top to bottom in 3 levels; the longest path is stronger")
	p.says("1 of 2 dead")
	p.accessible("a batch that is stuck")
	p.do(chromedp.Navigate(fmt.Sprintf("%s/jobs/%d", s.url, b.IDs[2])))
	p.says("Waits for 2 jobs, 1 not met yet; if one ends otherwise, it waits until somebody acts")
	p.press(fmt.Sprintf(`//button[text()="Start job %d"]`, b.IDs[2]))
	p.says("1 job goes on without the 1 job that it waits for")
	p.accessible("the question before a job goes on without another")
	p.submit()
	p.waitFor(`document.querySelector("[data-tie] + [data-tie], [data-tie]") && document.body.innerText.includes("let go without it")`)
	mended.Store(true)
	p.do(chromedp.Navigate(fmt.Sprintf("%s/batches/%d", s.url, b.ID)))
	p.press(`//button[text()="Requeue 1 dead"]`)
	p.says("Requeue 1 job")
	p.submit()
	p.says("4 jobs were done. It took")
	p.quiet()
}
