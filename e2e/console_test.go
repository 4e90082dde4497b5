package e2e

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/job"
	"humblemule.example/worker"
)

// page is a tab of headless Chromium.
type page struct {
	t   *testing.T
	ctx context.Context
	mu  sync.Mutex
	// complaints are what the browser found wrong: errors and refusals of the
	// content security policy.
	complaints []string
}

func open(t *testing.T, url string) *page {
	t.Helper()
	ctx, cancel := chromedp.NewContext(t.Context())
	t.Cleanup(cancel)
	p := &page{t: t, ctx: ctx}
	// The first step starts the browser, which lives as long as its context.
	require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)))
	entries, thrown := chromedp.Events(ctx, log.EntryAdded), chromedp.Events(ctx, runtime.ExceptionThrown)
	go func() {
		for e, err := range entries {
			if err == nil && string(e.Entry.Level) == "error" {
				p.complain(e.Entry.Text + " " + e.Entry.URL)
			}
		}
	}()
	go func() {
		for e, err := range thrown {
			if err == nil {
				p.complain(e.ExceptionDetails.Text)
			}
		}
	}()
	p.do(chromedp.Navigate(url))
	return p
}

func (p *page) complain(text string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.complaints = append(p.complaints, text)
}

func (p *page) do(steps ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, 20*time.Second)
	defer cancel()
	if err := chromedp.Do(ctx, steps...); err != nil {
		text, _ := chromedp.Run(p.ctx, chromedp.Evaluate[string]("document.body.innerText"))
		p.t.Fatalf("%v; the page says:\n%s", err, text)
	}
}

// submit presses the button of the open dialog.
func (p *page) submit() {
	p.t.Helper()
	p.press(`//*[@role="dialog"]//button[@type="submit"]`)
}

// press presses what an XPath leads to, once it has stood still: as people do, since an answer
// that comes in between can move it from under the pointer.
func (p *page) press(xpath string) {
	p.t.Helper()
	p.waitFor(fmt.Sprintf(`(() => {
		const found = document.evaluate(%q, document, null, XPathResult.FIRST_ORDERED_NODE_TYPE).singleNodeValue;
		const at = found && JSON.stringify(found.getBoundingClientRect());
		const still = at && at === window.pressAt;
		window.pressAt = at;
		return !!still;
	})()`, xpath))
	p.do(chromedp.Click(chromedp.Search(xpath)))
}

// focus has the keys go to what an XPath leads to, once it is there to take them: a page that is drawn
// anew may take it away in between.
func (p *page) focus(xpath string) {
	p.t.Helper()
	p.waitFor(fmt.Sprintf(`(() => {
		const found = document.evaluate(%q, document, null, XPathResult.FIRST_ORDERED_NODE_TYPE).singleNodeValue;
		found?.focus();
		return !!found && document.activeElement === found;
	})()`, xpath))
}

// again does something until a JavaScript expression comes true: a page that is drawn anew meanwhile may
// not take it at once.
func (p *page) again(expression string, do func()) {
	p.t.Helper()
	for range 6 {
		if do(); p.comes(expression, 3*time.Second) == nil {
			return
		}
	}
	p.waitFor(expression)
}

func (p *page) eval(script string) string {
	p.t.Helper()
	v, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](script))
	require.NoError(p.t, err)
	return v
}

// waitFor waits until a JavaScript expression is true.
func (p *page) waitFor(expression string) {
	p.t.Helper()
	if err := p.comes(expression, 20*time.Second); err != nil {
		p.t.Fatalf("%s never came true: %v; the page says:\n%s", expression, err, p.eval("document.body.innerText"))
	}
}

// comes waits for a while until a JavaScript expression is true; the error says that it never was.
func (p *page) comes(expression string, within time.Duration) error {
	ctx, cancel := context.WithTimeout(p.ctx, within)
	defer cancel()
	// Not with every frame, which costs more than what is waited for.
	poll := chromedp.Poll[bool](expression, chromedp.WithPollingInterval(50*time.Millisecond))
	_, err := chromedp.Run(ctx, poll)
	for err != nil && ctx.Err() == nil && loadedAnew(err) {
		_, err = chromedp.Run(ctx, poll)
	}
	return err
}

// loadedAnew tells whether a script could not run to its end since the page was loaded
// anew meanwhile.
func loadedAnew(err error) bool {
	return strings.Contains(err.Error(), "Cannot find context") || strings.Contains(err.Error(), "navigated or closed") || strings.Contains(err.Error(), "context was destroyed")
}

func (p *page) says(text string) {
	p.t.Helper()
	p.waitFor(fmt.Sprintf("document.body.innerText.includes(%q)", text))
}

// A person sees a job die, opens it, requeues it and sees it done, without once
// loading the page anew.
func TestConsole(t *testing.T) {
	t.Parallel()
	s := unalarmed(t)
	p := open(t, s.url+"/")
	p.says("No job has been enqueued yet.")

	m := s.mule(client.HTTPClient(newHTTP()))
	var mended atomic.Bool
	pool := worker.New(m.Source(), worker.Options{Name: "quay", Slots: 2})
	worker.Handle(pool, "manifest.check", func(_ context.Context, name string) (string, error) {
		if !mended.Load() {
			return "", errors.New("line 4: the weight of " + name + " is not a valid number")
		}
		return "checked", nil
	})
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- pool.Run(ctx) }()
	once := 1
	j, err := m.Enqueue(t.Context(), job.Spec{Task: "manifest.check", Payload: job.JSON("<b>heron</b>"), MaxAttempts: &once})
	require.NoError(t, err)

	p.says("New cause: line #: the weight of <b>heron</b> is not a valid number.")
	p.says("1 dead letter of manifest.check, all on host ")
	p.waitFor(`document.title.startsWith("New cause") && !!document.querySelector("li[data-fact=new_cause]")`)
	p.accessible("the first page")
	p.do(chromedp.Click(chromedp.CSS(`nav [title="Will not be retried by itself: a dead letter"]`)))
	p.waitFor(`location.pathname === "/dead"`)
	p.do(chromedp.Click(chromedp.CSS("tr[data-cause] a[aria-label]")))
	p.waitFor(`location.pathname === "/jobs" && location.search.startsWith("?state=dead&cause=")`)
	p.do(chromedp.Click(chromedp.CSS(fmt.Sprintf(`tr[data-job="%d"] a`, j.ID))))
	p.says("All its attempts are used up: try 1 of 1 failed.")
	p.says("line 4: the weight of <b>heron</b> is not a valid number")
	assert.Contains(t, p.eval("location.pathname"), fmt.Sprintf("/jobs/%d", j.ID))
	assert.Equal(t, "0", p.eval(`String(document.querySelectorAll("aside b").length)`), "a payload is never markup")

	mended.Store(true)
	p.do(chromedp.Click(chromedp.CSS("aside .button")))
	p.says("1 job begins round 2")
	p.says(fmt.Sprintf("hmule job requeue %d", j.ID))
	p.submit()
	p.waitFor(`document.querySelector("aside")?.innerText.includes("Its handler finished it")`)
	p.says("All is well: 2 jobs came and 2 finished within the last hour.")
	p.says("No job matches this filter.")

	p.accessible("the page with a job beside the list")

	// Back leads to where one came from; the list is as it was.
	p.eval(`history.back(), ""`)
	p.waitFor(`location.pathname === "/jobs" && location.search.startsWith("?state=dead&cause=")`)

	// A wrong payload is refused in the dialog, and nothing is changed.
	p.do(chromedp.Navigate(fmt.Sprintf("%s/jobs/%d", s.url, j.ID)), chromedp.Click(chromedp.CSS("aside .button")), chromedp.SendKeys(chromedp.CSS("[role=dialog] textarea"), "{"))
	p.says("The payload is not valid JSON")
	p.accessible("a dialog")
	p.do(chromedp.KeyEvent("\u001b"))
	p.waitFor(`!document.querySelector("[role=dialog]")`)

	// On a telephone nothing is wider than the screen, and the sentence comes first.
	p.do(chromedp.EmulateViewport(390, 844))
	p.do(chromedp.Navigate(s.url + "/"))
	p.says("All is well: 2 jobs came")
	p.waitFor(`document.documentElement.scrollWidth <= document.documentElement.clientWidth`)
	p.accessible("the page on a telephone")
	p.do(chromedp.EmulateViewport(1920, 1080))
	p.waitFor(`document.documentElement.scrollWidth <= document.documentElement.clientWidth`)

	// A second tab shares the one stream of the first.
	other, cancelOther := chromedp.NewContext(p.ctx)
	require.NoError(t, chromedp.Do(other, chromedp.Navigate(s.url+"/"), chromedp.WaitVisible(chromedp.Search(`//header//*[contains(text(),"Live")]`))))
	streams, err := chromedp.Run(other, chromedp.Evaluate[int](`performance.getEntriesByType("resource").filter(e => e.name.endsWith("/v1/events")).length`))
	require.NoError(t, err)
	assert.Zero(t, streams, "streams that a tab has opened by itself")
	cancelOther()

	p.quiet()
	cancel()
	require.NoError(t, <-ended)

	// The service goes and comes back: the page says so, and catches up by itself.
	s.kill()
	p.waitFor(`/No answer for \d+ s; figures of \d\d:\d\d:\d\d/.test(document.body.innerText)`)
	s.start()
	p.waitFor(`!document.body.innerText.includes("No answer for")`)
	_, err = m.Enqueue(t.Context(), job.Spec{Task: "manifest.check", Queue: "archive"})
	require.NoError(t, err)
	p.says("No worker serves queue archive: 1 job is ready and waiting.")
	p.theme("dark")
	p.waitFor(`getComputedStyle(document.documentElement).backgroundColor.startsWith("oklch(0.19")`)
}

// From the alarm to the jobs released in three presses: the cause, the question, its answer. A trial that fails leaves the rest where it is; what was
// discarded is brought back.
func TestDeadLetters(t *testing.T) {
	t.Parallel()
	s := unalarmed(t)
	m := s.mule(client.HTTPClient(newHTTP()))
	var mended atomic.Bool
	pool := worker.New(m.Source(), worker.Options{Name: "bank", Slots: 4})
	worker.Handle(pool, "dues.charge", func(_ context.Context, ship string) (string, error) {
		if !mended.Load() {
			return "", worker.GiveUp(fmt.Errorf("account %d of %q is locked", len(ship)*1000, ship))
		}
		return "charged", nil
	})
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- pool.Run(ctx) }()
	var specs []job.Spec
	for n := range 40 {
		specs = append(specs, job.Spec{Task: "dues.charge", Payload: job.JSON(fmt.Sprint("heron-", n))})
	}
	_, err := m.EnqueueMany(t.Context(), specs)
	require.NoError(t, err)

	p := open(t, s.url+"/")
	p.says("40 dead letters of dues.charge")
	press := p.press
	press(`//li[@data-fact="new_cause"]//a[text()="Open cause"]`)
	p.says("40 dead letters, 1 cause.")
	p.accessible("the dead letters")
	p.says("account # of “…” is locked")
	press(`//aside//button[text()="Requeue 40 jobs"]`)
	p.says("3 of 40 jobs begin a new round first.")
	p.accessible("the question before a recovery")
	press(`//button[text()="Try 3, then release 37"]`)
	p.says("of the trial is dead; the rest stays as it is")
	p.says("Requeue stopped")
	p.accessible("a cause")

	press(`//aside//button[text()="Discard 40 jobs"]`)
	press(`//*[@role="dialog"]//button[text()="Discard 40 jobs"]`)
	p.says("There is no dead letter.")
	press(`//aside//button[text()="Bring back 40 jobs"]`)
	p.says("40 dead letters, 1 cause.")

	mended.Store(true)
	press(`//aside//button[text()="Requeue 40 jobs"]`)
	press(`//button[text()="Try 3, then release 37"]`)
	p.says("Requeue finished")
	p.says("40 of 40 jobs")
	p.says("All is well: ")
	require.Eventually(t, func() bool {
		stats, err := m.Stats(t.Context(), "")
		return err == nil && stats.Counts[job.Done] == 40
	}, 10*time.Second, 50*time.Millisecond)
	p.quiet("/v1/causes/") // a cause that went while it was read
	cancel()
	require.NoError(t, <-ended)
}

// Every act is for what its page shows: the number in its dialog is that of the jobs it
// matches and changes, under a filter too, and no other job is touched.
func TestActsDoWhatIsShown(t *testing.T) {
	t.Parallel()
	s := serve(t)
	m := s.mule(client.HTTPClient(newHTTP()))
	once := 1
	var specs []job.Spec
	for n := range 12 {
		specs = append(specs, job.Spec{Task: "dues.charge", Payload: job.JSON(n), Queue: []string{"common", "common", "archive"}[n%3], MaxAttempts: &once})
	}
	_, err := m.EnqueueMany(t.Context(), specs)
	require.NoError(t, err)
	for _, queue := range []string{"common", "archive"} {
		for q, err := m.Queue(t.Context(), queue); q.Counts[job.Ready] > 0; q, err = m.Queue(t.Context(), queue) {
			require.NoError(t, err)
			l := leaseOf(t, m, queue)
			_, err = m.Source().Settle(t.Context(), []api.Settlement{{Token: l.Token, Outcome: job.OutcomeFailed, Error: &job.Failure{Message: "the bank is closed"}}})
			require.NoError(t, err)
		}
	}
	dead := func(queue string) int64 {
		q, err := m.Queue(t.Context(), queue)
		require.NoError(t, err)
		return q.Counts[job.Dead]
	}
	require.Equal(t, []int64{8, 4}, []int64{dead("common"), dead("archive")})
	causes, err := client.Collect(m.Causes(t.Context(), api.CauseFilter{}))
	require.NoError(t, err)
	require.Len(t, causes, 1)
	shown := func(action string, n int64) {
		t.Helper()
		require.Eventually(t, func() bool {
			all, err := client.Collect(m.Operations(t.Context()))
			return err == nil && len(all) > 0 && all[0].Action == action && all[0].Over()
		}, 10*time.Second, 20*time.Millisecond)
		all, err := client.Collect(m.Operations(t.Context()))
		require.NoError(t, err)
		assert.Equal(t, []any{n, "exact", n}, []any{all[0].Matched, all[0].MatchedIs, all[0].Changed})
	}
	p := open(t, fmt.Sprintf("%s/dead/%d?queue=archive", s.url, causes[0].ID))
	press := p.press
	p.says("4 jobs in queue archive")
	press(`//aside//button[text()="Discard 4 jobs of queue archive"]`)
	press(`//*[@role="dialog"]//button[text()="Discard 4 jobs of queue archive"]`)
	shown(api.ActDiscard, 4)
	require.Equal(t, []int64{8, 0}, []int64{dead("common"), dead("archive")})
	press(`//aside//button[text()="Bring back 4 jobs"]`)
	require.Eventually(t, func() bool { return dead("archive") == 4 }, 10*time.Second, 20*time.Millisecond)

	p.says("4 jobs in queue archive")
	press(`//aside//button[text()="Requeue 4 jobs of queue archive"]`)
	press(`//*[@role="dialog"]//button[text()="Try 3, then release 1"]`)
	for range 3 {
		var l api.Lease
		require.Eventually(t, func() bool {
			a, err := m.Source().Lease(t.Context(), api.LeaseRequest{Worker: "w", Queues: []string{"archive"}, Limit: 1})
			if err == nil && len(a.Leases) == 1 {
				l = a.Leases[0]
			}
			return l.Token != ""
		}, 10*time.Second, 20*time.Millisecond)
		_, err = m.Source().Settle(t.Context(), []api.Settlement{{Token: l.Token, Outcome: job.OutcomeDone}})
		require.NoError(t, err)
	}
	shown(api.ActRequeue, 4)
	p.says("3 done · 1 under way")
	require.Equal(t, []int64{8, 0}, []int64{dead("common"), dead("archive")})
	p.quiet("/v1/causes/")
}

// A person bounds a task's retries and sees what follows while typing; tries
// one chosen job, then mends the payloads of all of a cause by a patch, with
// the change before their eyes; the job tells what was edited.
func TestSettingsAndPatch(t *testing.T) {
	t.Parallel()
	s := serve(t)
	m := s.mule(client.HTTPClient(newHTTP()))
	type due struct {
		Ship string `json:"ship"`
		Bank string `json:"bank"`
	}
	pool := worker.New(m.Source(), worker.Options{Name: "bank", Slots: 2})
	worker.Handle(pool, "dues.charge", func(_ context.Context, d due) (string, error) {
		if d.Bank != "harbour" {
			return "", worker.GiveUp(fmt.Errorf("bank %q keeps no account of %q", d.Bank, d.Ship))
		}
		return "charged", nil
	})
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- pool.Run(ctx) }()
	good, err := m.Enqueue(t.Context(), job.Spec{Task: "dues.charge", Payload: job.JSON(due{"egret", "harbour"})})
	require.NoError(t, err)
	_, err = m.WaitFor(t.Context(), good.ID, 10*time.Second)
	require.NoError(t, err)
	both, err := m.EnqueueMany(t.Context(), []job.Spec{{Task: "dues.charge", Payload: job.JSON(due{"heron", "quay"})}, {Task: "dues.charge", Payload: job.JSON(due{"plover", "quay"})}})
	jobs := both.Jobs
	require.NoError(t, err)

	p := open(t, s.url+"/settings/dues.charge")
	press := p.press
	enter := func(xpath, text string) {
		p.focus(xpath)
		p.do(chromedp.KeyEvent(text))
	}
	p.says("17 attempts; the last one comes")
	enter(`//input[@name="max_attempts"]`, "0")
	p.says("a job that always fails is retried forever")
	enter(`//select[@name="curve"]`, "l")
	p.waitFor(`document.querySelector("select[name=curve]").value === "linear"`)
	enter(`//input[@name="first"]`, "10 parsecs")
	p.says(`retry.first "10 parsecs" is not a valid duration`)
	press(`//aside//button[text()="As it was"]`)
	enter(`//input[@name="max_attempts"]`, "3")
	p.says("3 attempts; the last one comes")
	p.accessible("the settings of a task")
	press(`//aside//button[text()="Set the defaults of dues.charge"]`)
	press(`//*[@role="dialog"]//button[text()="Set 1 task"]`)
	p.waitFor(`document.querySelector("tr[data-task='dues.charge']").innerText.includes("3")`)
	tasks, err := client.Collect(m.Tasks(t.Context()))
	require.NoError(t, err)
	require.Len(t, tasks, 1)
	require.Equal(t, 3, *tasks[0].Defaults.MaxAttempts)

	press(`//a[text()="Dead letters"]`)
	press(`//tr[@data-cause]/td/a[not(@aria-label)]`)
	press(fmt.Sprintf(`//input[@aria-label="Choose job %d"]`, jobs[0].ID))
	press(`//aside//button[text()="Requeue 1 chosen job"]`)
	press(`//*[@role="dialog"]//button[text()="Requeue 1 chosen job"]`)
	p.waitFor(`!document.querySelector("[role=dialog]")`)
	require.Eventually(t, func() bool {
		j, err := m.Job(t.Context(), jobs[0].ID)
		return err == nil && j.Round == 2 && j.State == job.Dead
	}, 10*time.Second, 20*time.Millisecond)
	p.says(fmt.Sprintf("job %d requeued, by local", jobs[0].ID))

	press(`//aside//button[text()="Requeue 2 jobs"]`)
	enter(`//*[@role="dialog"]//textarea`, `{"bank":`)
	p.says("The patch is not valid JSON")
	enter(`//*[@role="dialog"]//textarea`, `"harbour"}`)
	p.waitFor(`document.querySelector("[role=dialog]").innerText.includes('"bank": "quay"')`)
	p.waitFor(`document.querySelector("[role=dialog]").innerText.includes('"bank": "harbour"')`)
	p.accessible("a patch and what it does")
	press(`//*[@role="dialog"]//button[text()="Requeue 2 jobs"]`)
	var done job.Job
	require.Eventually(t, func() bool {
		done, err = m.Job(t.Context(), jobs[1].ID)
		return err == nil && done.State == job.Done
	}, 10*time.Second, 20*time.Millisecond)
	require.JSONEq(t, `{"ship":"plover","bank":"harbour"}`, string(done.Payload))

	p.do(chromedp.Navigate(fmt.Sprintf("%s/jobs/%d", s.url, jobs[1].ID)))
	p.says("Edits of the payload")
	p.says("changed for the requeue by local")
	p.accessible("a job whose payload was edited")
	p.quiet("/v1/explain/retry", "/v1/causes/") // which refused the parsecs; and as above
	cancel()
	require.NoError(t, <-ended)
}

// A person limits a queue and lets its owners take turns, sees in what order jobs start,
// and why one waits.
func TestQueuesPage(t *testing.T) {
	t.Parallel()
	s := serve(t)
	m := s.mule(client.HTTPClient(newHTTP()))
	high := 9
	for _, spec := range []job.Spec{{Owner: "Okonkwo Lines"}, {Owner: "Okonkwo Lines"}, {Owner: "Marsh Agency", Priority: &high}, {Lane: "berth-3"}, {Lane: "berth-3"}} {
		spec.Task, spec.Queue = "berth.plan", "berths"
		_, err := m.Enqueue(t.Context(), spec)
		require.NoError(t, err)
	}
	for _, id := range []int64{3, 1, 2} {
		require.Equal(t, id, leaseOf(t, m, "berths").Job.ID)
	}
	p := open(t, s.url+"/queues")
	press := p.press
	enter := func(xpath, text string) {
		p.focus(xpath)
		p.do(chromedp.KeyEvent(text))
	}
	p.says("1 job is ready in 1 queue.")
	p.accessible("the queues")
	press(`//tr[@data-queue="berths"]//a[.="berths"]`)
	p.says("2: 1, 2")
	enter(`//input[@name="max_running"]`, "none")
	p.says("a whole number above 0")
	press(`//aside//button[text()="As it was"]`)
	enter(`//select[@name="turns"]`, "t")
	enter(`//textarea[@name="weights"]`, "Marsh Agency = 3")
	enter(`//input[@name="max_running"]`, "1")
	enter(`//select[@name="lane_on_dead"]`, "s")
	p.accessible("the settings of a queue")
	press(`//aside//button[text()="Set queue berths"]`)
	p.says("2 waiting jobs get their places by the new order")
	p.says("3 jobs run now; no new one starts until fewer than 1 do.")
	press(`//*[@role="dialog"]//button[text()="Set 1 queue"]`)
	p.says("At their limit of running jobs: berths.")
	p.says("by priority, owners take turns")
	q, err := m.Queue(t.Context(), "berths")
	require.NoError(t, err)
	require.Equal(t, api.Rules{Order: api.OrderPriority, Turns: api.TurnsOwner, OwnerWeights: map[string]int{"Marsh Agency": 3}, LaneOnBackoff: api.LaneWaits, LaneOnDead: api.LaneStops, MaxRunning: q.MaxRunning}, q.Rules)
	require.Equal(t, 1, *q.MaxRunning)
	p.do(chromedp.Navigate(s.url + "/jobs/5"))
	p.says("Job 4 has lane berth-3 and is ready.")
	p.quiet()
}

// accessible wants axe to find nothing serious, in both themes.
func (p *page) accessible(what string) {
	p.t.Helper()
	p.accessibleIn("dark", what, colours)
	p.accessibleIn("light", what, allRules)
}

// What axe holds a page against: all it knows, or what a theme changes.
const (
	allRules = "undefined"
	colours  = `["color-contrast"]`
)

var axe = sync.OnceValues(func() ([]byte, error) { return os.ReadFile("../console/node_modules/axe-core/axe.min.js") })

// accessibleIn wants axe to find nothing serious in a theme, by some rules.
func (p *page) accessibleIn(theme, what, rules string) {
	p.t.Helper()
	script, err := axe()
	require.NoError(p.t, err)
	p.theme(theme)
	p.do(chromedp.Evaluate[chromedp.Void]("if (!window.axe) {" + string(script) + "}"))
	found, err := chromedp.Run(p.ctx, chromedp.Evaluate[[]string](fmt.Sprintf(`axe.run({runOnly: %s, resultTypes: ["violations"]}).then(r => r.violations.filter(v => ["serious", "critical"].includes(v.impact)).map(v => v.id + ": " + v.nodes.map(n => n.html).join(" | ")))`, rules), chromedp.EvalAwaitPromise))
	require.NoError(p.t, err)
	assert.Empty(p.t, found, "%s, %s", what, theme)
}

func (p *page) theme(name string) {
	p.t.Helper()
	_, err := chromedp.Call(p.ctx, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: name}}})
	require.NoError(p.t, err)
}

// quiet wants the browser to have found nothing wrong but what the test brought about.
func (p *page) quiet(but ...string) {
	p.t.Helper()
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, c := range p.complaints {
		assert.True(p.t, slices.ContainsFunc(but, func(b string) bool { return strings.Contains(c, b) }), c)
	}
}
