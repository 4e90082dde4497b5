package e2e

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/harbour"
	"humblemule.example/job"
)

// serveHarbour serves a file with the thirty made-up days of the harbour, in which an hour with a
// bad deployment killed manifests.
func serveHarbour(t *testing.T) *service {
	t.Helper()
	s := &service{t: t, data: filepath.Join(t.TempDir(), "harbour.db"), listen: freeAddress(t)}
	require.NoError(t, harbour.WritePast(s.data, time.Now(), 7))
	s.start()
	t.Cleanup(s.kill)
	return s
}

// budget counts the presses of a person; typing is not counted.
type budget struct {
	*page
	presses int
}

// task begins at an address with a budget of presses.
func (p *page) task(url string, most int, do func(b *budget)) {
	p.t.Helper()
	p.do(chromedp.Navigate(url))
	p.waitFor(`document.getElementById("page") !== null`)
	b := &budget{page: p}
	do(b)
	assert.LessOrEqual(p.t, b.presses, most, "presses from %s", url)
}

// press presses what an XPath leads to.
func (b *budget) press(xpath string) {
	b.t.Helper()
	b.presses++
	b.page.press(xpath)
}

func (b *budget) confirm() {
	b.t.Helper()
	b.presses++
	b.submit()
	b.waitFor(`!document.querySelector("[role=dialog] form")`)
}

// choose chooses an option of a select by what it says.
func (b *budget) choose(name, option string) {
	b.t.Helper()
	b.presses++
	b.waitFor(fmt.Sprintf(`(() => {
		const field = document.querySelector('select[aria-label=%q]');
		const option = field && [...field.options].find(o => o.text.startsWith(%q));
		if (!option) return false;
		Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(field, option.value);
		field.dispatchEvent(new Event("change", {bubbles: true}));
		return true;
	})()`, name, option))
}

func (b *budget) typeText(text string) { b.do(chromedp.KeyEvent(text)) }

// dialog is what the open dialog says.
func (p *page) dialog() string {
	p.waitFor(`!!document.querySelector("[role=dialog] button[type=submit]:not(:disabled)")`)
	return p.eval(`document.querySelector("[role=dialog]").innerText`)
}

// failing has a worker of a version on a host take jobs of a queue and fail them.
func failing(t *testing.T, m *client.Client, id, version, host, queue string, n int, f job.Failure) {
	t.Helper()
	_, err := m.Source().PutWorker(t.Context(), api.Worker{ID: id, Name: "harbour-office", Host: host, Version: version, Queues: []string{queue}, Slots: n})
	require.NoError(t, err)
	a, err := m.Source().Lease(t.Context(), api.LeaseRequest{Worker: id, Queues: []string{queue}, Limit: n})
	require.NoError(t, err)
	require.Len(t, a.Leases, n)
	settles := make([]api.Settlement, n)
	for i, l := range a.Leases {
		settles[i] = api.Settlement{Token: l.Token, Outcome: job.OutcomeFailed, Error: &f}
	}
	_, err = m.Source().Settle(t.Context(), settles)
	require.NoError(t, err)
}

// What people on call and people who tune come for, each within a budget of presses.
func TestTasksOfPeople(t *testing.T) {
	t.Parallel()
	s := serveHarbour(t)
	m := s.mule(client.HTTPClient(newHTTP()))
	once := 1
	var specs []job.Spec
	for n := range 37 {
		specs = append(specs, job.Spec{Task: "manifest.check", Queue: "berths", Payload: job.JSON(n), Owner: []string{"Okonkwo Lines", "Marsh Agency"}[n%2], MaxAttempts: &once})
	}
	_, err := m.EnqueueMany(t.Context(), specs)
	require.NoError(t, err)
	failing(t, m, "w-1", "2.5", "quay-3", "berths", 37, job.Failure{Type: "manifest_malformed", Message: `line 4: the weight "12t" is not a valid number of kilograms`})
	retried, err := m.Enqueue(t.Context(), job.Spec{Task: "buoy.poll", Queue: "buoys", Retry: &job.Retry{First: job.For(time.Hour)}})
	require.NoError(t, err)
	failing(t, m, "w-2", "2.5", "quay-1", "buoys", 1, job.Failure{Type: "buoy_silent", Message: "buoy outer-bell is silent"})
	p := open(t, s.url+"/")

	// Is it us or them? By version, by host, and since when; the rate before and after.
	p.task(s.url+"/", 3, func(b *budget) {
		b.press(`//li[@data-fact="new_cause" or @data-fact="dead"]//a[starts-with(text(),"Open")]`)
		b.says("Is it one version, or one host?")
		b.says("On 2 hosts; lately on quay-3.")
		b.says("Under 2 versions; lately under version 2.5.")
		b.waitFor(`[...document.querySelectorAll("table[aria-label='What happened meanwhile'] tr")].some(r => r.innerText.includes("version 2.4") && /[3-6]\d\s%/.test(r.cells[3].innerText) && /0\s%$/.test(r.cells[2].innerText))`)
		b.accessible("a cause with its versions and hosts")
	})

	// From the alarm to the first jobs released.
	p.task(s.url+"/", 5, func(b *budget) {
		b.press(`//li[@data-fact="new_cause" or @data-fact="dead"]//a[starts-with(text(),"Open")]`)
		b.press(`//aside//button[text()="Requeue 37 jobs"]`)
		assert.Contains(t, b.dialog(), "3 of 37 jobs begin a new round first.")
		b.confirm()
		b.says("trial runs")
		b.press(`//aside//button[text()="Stop it"]`)
		b.says("Requeue stopped")
	})

	// What if I press this? Every act says how many, what follows, what cannot be undone, and its command.
	for action, want := range map[string][]string{
		"Requeue": {"Requeue 34 jobs", "34 jobs begin a new round at once. What they did before stays on record.", "Queue berths would then be", "hmule job requeue --state dead --task manifest.check"},
		"Discard": {"Discard 34 jobs", "They can be brought back for 10 min; then they are gone.", "hmule job discard --state dead --task manifest.check"},
	} {
		p.task(s.url+"/jobs?state=dead&task=manifest.check", 2, func(b *budget) {
			b.press(`//button[contains(.,"Act on all 34")]`)
			b.press(fmt.Sprintf(`//*[@role="menuitem"][contains(.,%q)]`, action))
			says := b.dialog()
			for _, text := range want {
				assert.Contains(t, says, text, action)
			}
			b.accessible("the question before " + action)
		})
	}
	for action, want := range map[string][]string{
		"Cancel":    {"Cancel 4 jobs", "3 waiting jobs are cancelled and will not run; they can be requeued later.", "1 running job is asked to end", "hmule job cancel"},
		"Start now": {"Start 1 job now", "1 job becomes ready at once, instead of waiting for its time or next attempt. This cannot be undone", "queue buoys", "hmule job start"},
	} {
		if action == "Cancel" {
			_, err := m.Source().Lease(t.Context(), api.LeaseRequest{Worker: "w-1", Queues: []string{"berths"}, Limit: 1})
			require.NoError(t, err)
		}
		p.task(s.url+"/jobs?queue=berths,buoys&state=ready,running,backoff", 2, func(b *budget) {
			b.press(`//button[contains(.,"Act on all 4")]`)
			b.press(fmt.Sprintf(`//*[@role="menuitem"][contains(.,%q)]`, action))
			says := b.dialog()
			for _, text := range want {
				assert.Contains(t, says, text, action)
			}
		})
	}

	// Will it be done by 08:00? The range, a slider, and what holds it back.
	_, err = m.EnqueueMany(t.Context(), specs)
	require.NoError(t, err)
	p.task(s.url+"/queues/berths", 3, func(b *budget) {
		b.says("39 jobs are waiting in queue berths")
		b.press(`//aside//input[@placeholder="08:00"]`)
		b.typeText(time.Now().Add(3 * time.Hour).Format("15:04"))
		b.press(`//aside//input[@type="range"]`)
		b.typeText(kb.Home)
		b.waitFor(`/With \d+ slots?:/.test(document.querySelector("aside").innerText)`)
		b.waitFor(`!!document.querySelector("aside svg path.stroke-accent")`)
		b.accessible("a forecast")
	})

	// What will become of this job?
	p.task(fmt.Sprintf("%s/jobs/%d", s.url, retried.ID), 0, func(b *budget) {
		b.says("If every attempt fails: 16 more tries, the last about at")
		b.waitFor(`document.querySelectorAll("section[aria-label='What will become of it'] svg rect").length === 16`)
		b.accessible("what will become of a job")
	})

	// Did my change help? Two spans side by side.
	p.task(s.url+"/", 3, func(b *budget) {
		b.press(`//a[text()="Did it help?"]`)
		b.choose("Of what", "task manifest.check")
		b.choose("What happened in between", "2.4 deployed")
		b.waitFor(`document.querySelector("tr[data-figure='jobs that died']")?.innerText.includes("worse")`)
		b.says("Worse: done; attempts that failed; jobs that died")
		b.accessible("two spans side by side")
	})

	// All of one customer's jobs of today, with a count.
	p.task(s.url+"/", 2, func(b *budget) {
		b.eval(`dispatchEvent(new KeyboardEvent("keydown", {key: "/", bubbles: true})), ""`)
		b.waitFor(`document.activeElement.getAttribute("aria-label") === "Find"`)
		b.typeText("Okonkwo Lines")
		b.press(`//*[@role="option"][contains(.,"owner")]`)
		b.choose("Filter by time of enqueue", "today")
		counted, err := m.CountJobs(t.Context(), api.Filter{Owner: "Okonkwo Lines"})
		require.NoError(t, err)
		b.waitFor(fmt.Sprintf(`document.querySelector("h2").innerText === "%d jobs" || new Date().getHours() === 0`, counted.Matched))
		b.waitFor(`location.search.includes("owner=Okonkwo+Lines&since=")`)
	})

	// Hand over: a link that says which jobs, and in which states they were.
	p.task(s.url+"/jobs?state=backoff,dead&queue=buoys,berths", 2, func(b *budget) {
		b.eval(`navigator.clipboard.writeText = text => { window.copied = text; return Promise.resolve() }, ""`)
		b.press(`//button[contains(.,"Export all")]`)
		b.press(`//*[@role="menuitem"][contains(.,"Copy a link")]`)
		b.says("The link to these 35 jobs was copied.")
		link := b.eval(`window.copied`)
		_, err := m.CancelJob(t.Context(), retried.ID)
		require.NoError(t, err)
		b.do(chromedp.Navigate(link))
		b.says("These jobs were handed over at")
		b.waitFor(fmt.Sprintf(`document.querySelector("tr[data-job='%d']")?.innerText.includes("now")`, retried.ID))
		b.waitFor(`document.querySelectorAll("tr[data-state=dead]").length > 10 && [...document.querySelectorAll("tr[data-job]")].filter(r => r.cells[2].innerText.includes("now")).length === 1`)
	})
	p.quiet()
}

// An act on what is chosen touches these and no others: the dialog's number is what was matched
// and what was changed; it can be undone. One job is edited, and one is discarded.
func TestActsOnLists(t *testing.T) {
	t.Parallel()
	s := serve(t)
	m := s.mule(client.HTTPClient(newHTTP()))
	var specs []job.Spec
	for n := range 60 {
		specs = append(specs, job.Spec{Task: "dues.charge", Payload: job.JSON(map[string]int{"ship": n}), Labels: map[string]string{"berth": fmt.Sprint("berth-", n%3)}, Delay: job.For(time.Hour)})
	}
	_, err := m.EnqueueMany(t.Context(), specs)
	require.NoError(t, err)
	count := func(state job.State) int64 {
		stats, err := m.Stats(t.Context(), "")
		require.NoError(t, err)
		return stats.Counts[state]
	}
	last := func() api.Operation {
		all, err := client.Collect(m.Operations(t.Context()))
		require.NoError(t, err)
		require.NotEmpty(t, all)
		return all[0]
	}
	p := open(t, s.url+"/jobs?label=berth:berth-1")
	press := p.press
	act := func(on, action string, n int) api.Operation {
		t.Helper()
		press(fmt.Sprintf(`//button[contains(.,%q)]`, "Act on "+on))
		press(fmt.Sprintf(`//*[@role="menuitem"][contains(.,%q)]`, action))
		assert.Contains(t, p.dialog(), fmt.Sprint(n))
		p.submit()
		p.waitFor(`!document.querySelector("[role=dialog]")`)
		o := last()
		assert.Equal(t, []int64{int64(n), int64(n)}, []int64{o.Matched, o.Changed}, action)
		return o
	}
	p.says("20 jobs")
	press(`//tbody/tr[1]//input`)
	press(`//tbody/tr[3]//input`)
	act("2 chosen", "Cancel", 2)
	require.Equal(t, []int64{58, 2}, []int64{count(job.Scheduled), count(job.Cancelled)})
	p.says("2 jobs cancelled.")
	p.accessible("a list with what can be done to it")

	p.do(chromedp.Navigate(s.url + "/jobs?label=berth:berth-2&state=scheduled"))
	p.says("20 jobs")
	press(`//button[contains(.,"Act on all 20")]`)
	press(`//*[@role="menuitem"][contains(.,"Change")]`)
	p.says("Fill in what is to change.")
	p.focus(`//*[@role="dialog"]//input[@type="number"]`)
	p.do(chromedp.KeyEvent("9"))
	p.says("20 jobs get priority 9.")
	assert.Contains(t, p.dialog(), "hmule job edit --state scheduled --label berth=berth-2 priority=9")
	p.submit()
	p.waitFor(`!document.querySelector("[role=dialog]")`)
	require.EqualValues(t, 20, last().Changed)
	jobs, err := m.ListJobs(t.Context(), api.Filter{Labels: map[string]string{"berth": "berth-2"}})
	require.NoError(t, err)
	for _, j := range jobs.Jobs {
		require.Equal(t, 9, j.Priority)
	}

	// Discard, and take it back where the operations are listed.
	p.do(chromedp.Navigate(s.url + "/jobs?state=cancelled"))
	p.says("2 jobs")
	act("all 2", "Discard", 2)
	require.Zero(t, count(job.Cancelled))
	p.do(chromedp.Navigate(s.url + "/log"))
	press(`//button[text()="Bring back 2 jobs"]`)
	require.Eventually(t, func() bool { return count(job.Cancelled) == 2 }, 10*time.Second, 20*time.Millisecond)
	p.accessible("the action log with its operations")

	// One job: an edit, which is asked about before it is left; a wrong one is refused.
	id := jobs.Jobs[0].ID
	p.do(chromedp.Navigate(fmt.Sprintf("%s/jobs/%d", s.url, id)))
	p.says("60 jobs")
	press(fmt.Sprintf(`//aside//button[text()="Edit job %d"]`, id))
	p.focus(`//*[@role="dialog"]//input[@name="owner"]`)
	p.do(chromedp.KeyEvent("Marsh Agency"))
	p.focus(`//*[@role="dialog"]//textarea[@name="labels"]`)
	p.do(chromedp.KeyEvent(kb.End + "\nnonsense"))
	p.says("“nonsense” is not a label; write name = value")
	p.do(chromedp.KeyEvent(" = yes"))
	p.accessible("the edit of a job")
	p.submit()
	p.says(fmt.Sprintf("Job %d was changed.", id))
	edited, err := m.Job(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, []any{"Marsh Agency", "yes", "berth-2"}, []any{edited.Owner, edited.Labels["nonsense"], edited.Labels["berth"]})

	// A queue is purged, and its stopped lane passed.
	for range 2 {
		_, err := m.Enqueue(t.Context(), job.Spec{Task: "berth.plan", Queue: "berths", Lane: "berth-3", MaxAttempts: new(1)})
		require.NoError(t, err)
	}
	_, err = m.PutQueue(t.Context(), "berths", api.Defaults{Rules: api.Rules{LaneOnDead: api.LaneStops}})
	require.NoError(t, err)
	_, err = m.Source().Settle(t.Context(), []api.Settlement{{Token: leaseOf(t, m, "berths").Token, Outcome: job.OutcomeFailed}})
	require.NoError(t, err)
	p.do(chromedp.Navigate(s.url + "/queues/berths"))
	press(`//li[@data-lane="berth-3"]//button`)
	assert.Contains(t, p.dialog(), "Let 1 lane pass")
	p.submit()
	p.says("Lane berth-3 goes on past job 61.")
	p.waitFor(`!document.querySelector("[role=dialog]")`)
	press(`//aside//button[text()="Purge 1 waiting job"]`)
	p.says("1 job leaves every list and count at once.")
	p.submit()
	require.Eventually(t, func() bool { o := last(); return o.Action == api.ActPurge && o.Changed == 1 }, 10*time.Second, 20*time.Millisecond)
	p.quiet()
}

// While somebody looks at a list nothing moves under the hand: new rows gather, and come when
// they are asked for; the counts stay true; and a page that nobody sees asks nothing.
func TestListKeepsStill(t *testing.T) {
	t.Parallel()
	s := serve(t)
	m := s.mule(client.HTTPClient(newHTTP()))
	enqueue := func(n int) {
		t.Helper()
		specs := make([]job.Spec, n)
		for i := range specs {
			specs[i] = job.Spec{Task: "tide.predict", Delay: job.For(time.Hour)}
		}
		_, err := m.EnqueueMany(t.Context(), specs)
		require.NoError(t, err)
	}
	enqueue(5)
	p := open(t, s.url+"/jobs")
	p.says("5 jobs")
	enqueue(1)
	p.waitFor(`document.querySelectorAll("tr[data-job]").length === 6`)
	p.do(chromedp.Click(chromedp.Search(`//button[text()="Pause"]`)))
	enqueue(12)
	p.says("12 new")
	p.says("18 jobs")
	assert.Equal(t, "6", p.eval(`String(document.querySelectorAll("tr[data-job]").length)`))
	_, err := m.CancelJob(t.Context(), 6)
	require.NoError(t, err)
	p.waitFor(`document.querySelector("tr[data-job='6']").dataset.state === "cancelled"`)
	p.do(chromedp.Click(chromedp.Search(`//button[text()="12 new"]`)))
	p.waitFor(`document.querySelectorAll("tr[data-job]").length === 18`)
	p.do(chromedp.Click(chromedp.Search(`//button[text()="Go on"]`)))

	// After very many changes the page tells what the service does.
	for range 10 {
		enqueue(1000)
	}
	p.waitFor(`document.querySelector("h2").innerText === "10\u202f018 jobs"`)
	p.waitFor(`[...document.querySelectorAll("nav[aria-label='Jobs by state'] a")].some(a => a.innerText.includes("10\u202f017"))`)
	assert.Equal(t, "true", p.eval(`String(document.querySelectorAll("tr[data-job]").length < 120)`), "only what is seen is drawn")
	p.eval(`scrollTo(0, document.documentElement.scrollHeight), ""`)
	p.waitFor(`document.querySelector("table").getAttribute("aria-rowcount") === "101"`)

	// Keys alone: find, open, walk, close, go to another page.
	p.do(chromedp.Navigate(s.url + "/jobs"))
	p.says("10\u202f018 jobs")
	p.waitFor(`!!document.querySelector("tr[data-index='0'] a")`)
	p.eval(`document.querySelector("tr[data-index='0'] a").focus(), ""`)
	p.do(chromedp.KeyEvent(kb.ArrowDown), chromedp.KeyEvent(kb.ArrowDown))
	p.waitFor(`document.activeElement.closest("tr")?.dataset.index === "2"`)
	p.do(chromedp.KeyEvent("\r"))
	p.waitFor(`!!document.querySelector("aside") && document.activeElement.tagName === "H2"`)
	p.do(chromedp.KeyEvent("?"))
	p.says("go to Dead letters")
	p.accessible("the keys")
	p.do(chromedp.KeyEvent("\u001b"))
	p.waitFor(`!document.querySelector("[role=dialog]") && !!document.querySelector("aside")`)
	p.do(chromedp.KeyEvent("\u001b"))
	p.waitFor(`!document.querySelector("aside")`)
	p.do(chromedp.KeyEvent("g"), chromedp.KeyEvent("w"))
	p.waitFor(`location.pathname === "/workers"`)
	p.do(chromedp.Navigate(s.url + "/settings/tide.predict"))
	p.focus(`//input[@name="max_attempts"]`)
	p.do(chromedp.KeyEvent("3"))
	p.do(chromedp.Click(chromedp.Search(`//a[text()="Queues"]`)))
	p.says("What you have changed in this form is not saved.")
	p.accessible("the question before a form is left")
	p.do(chromedp.Click(chromedp.Search(`//button[text()="Stay here"]`)))
	p.waitFor(`document.querySelector("input[name=max_attempts]").value === "3" && !document.querySelector("[role=dialog]") && document.body.style.pointerEvents !== "none"`)
	p.do(chromedp.Click(chromedp.Search(`//a[text()="Queues"]`)), chromedp.Click(chromedp.Search(`//button[text()="Discard my changes"]`)))
	p.waitFor(`location.pathname === "/queues"`)
	p.quiet()
}

// shifted tells by how much the page has shifted while it came, and what, where that is too much.
const shifted = `new Promise(r => {
	new PerformanceObserver(l => {
		const all = l.getEntries().filter(e => !e.hadRecentInput);
		const sum = all.reduce((n, e) => n + e.value, 0);
		r(sum < 0.05 ? "" : sum.toFixed(3) + " " + all.filter(e => e.value > 0.004).flatMap(e => [e.value.toFixed(3), ...e.sources.map(s => s.node?.outerHTML?.slice(0, 120) + JSON.stringify([s.previousRect.y, s.currentRect.y]))]).join(" | "));
	}).observe({type: "layout-shift", buffered: true});
	setTimeout(() => r(""), 300);
})`

// Every page and panel, in both themes, on a desk and on a telephone, with names of the longest
// kind: nothing is wider than the screen, nothing shifts, axe finds nothing serious, and times are
// right where the zone is half an hour off.
func TestEveryPage(t *testing.T) {
	t.Parallel()
	s := serveHarbour(t)
	m := s.mule(client.HTTPClient(newHTTP()))
	long := strings.Repeat("very-long-name-", 8) + "12345678"
	require.Len(t, long, 128)
	_, err := m.Enqueue(t.Context(), job.Spec{Task: long, Queue: long, Owner: long, Key: long, Lane: long, Labels: map[string]string{"berth": long}, Payload: job.JSON(long), MaxAttempts: new(1)})
	require.NoError(t, err)
	failing(t, m, "w", long, long, long, 1, job.Failure{Type: long, Message: strings.Repeat(long+" ", 3)})
	j, err := m.Enqueue(t.Context(), job.Spec{Task: long, Queue: long, Delay: job.For(time.Hour)})
	require.NoError(t, err)
	_, err = m.PutSchedule(t.Context(), long, api.Schedule{Every: job.For(time.Minute), Job: job.Spec{Task: long, Queue: long}})
	require.NoError(t, err)
	_, err = m.PutSchedule(t.Context(), "voyages", api.Schedule{Every: job.For(time.Hour), Batch: &api.NewBatch{Name: long, Jobs: []api.BatchJob{{Spec: job.Spec{Task: long}}}, Last: &job.Spec{Task: long, Queue: long}}})
	require.NoError(t, err)
	_, err = m.Follow(t.Context(), long, api.NewFollow{Name: "berth", Value: long})
	require.NoError(t, err)
	batch, err := m.Start(t.Context(), client.NewBatch(long).For(long).Last(job.Spec{Task: long, Queue: long}).Open())
	require.NoError(t, err)
	_, err = m.AddToBatch(t.Context(), batch.ID, []api.BatchJob{{Ref: "a", Spec: job.Spec{Task: long, Queue: long}}, {Spec: job.Spec{Task: long, Queue: long, After: &job.After{Refs: []string{"a"}}}}})
	require.NoError(t, err)
	_, err = m.PatchQueue(t.Context(), long, map[string]any{"priority": 3}) // what happened meanwhile, on the page of the cause
	require.NoError(t, err)
	_, err = m.PutHook(t.Context(), long, api.Hook{Task: long, Queue: long, Proof: api.Proof{Kind: api.ProofNone}})
	require.NoError(t, err)
	causes, err := client.Collect(m.Causes(t.Context(), api.CauseFilter{}))
	require.NoError(t, err)
	p := open(t, s.url+"/")
	_, err = chromedp.Call(p.ctx, emulation.SetTimezoneOverride, emulation.SetTimezoneOverrideParams{TimezoneID: "Asia/Kolkata"})
	require.NoError(t, err)
	for _, path := range []string{
		"/", "/jobs", fmt.Sprint("/jobs/", j.ID), "/jobs?owner=" + long, "/batches", fmt.Sprint("/batches/", batch.ID), fmt.Sprint("/jobs/", batch.Last), "/dead", fmt.Sprint("/dead/", causes[0].ID), "/coming", "/coming/" + long, "/coming/voyages", "/coming/new", "/queues", "/queues/" + long,
		"/workers", "/workers/w", "/outside", "/outside/hooks/" + long, "/alerts", "/alerts/9", "/log", "/settings", "/settings/" + long, "/compare",
	} {
		for _, wide := range []int64{1280, 390} {
			p.do(chromedp.EmulateViewport(wide, 844), chromedp.Navigate(s.url+path))
			p.waitFor(`!!document.querySelector("main section, main aside") && !document.body.innerText.includes("Reading")`)
			over := p.eval(`[...document.querySelectorAll("main *")].filter(e => e.getBoundingClientRect().right > innerWidth + 1 && !e.closest(".overflow-x-auto, .overflow-hidden, .truncate, svg")).slice(0, 3).map(e => e.outerHTML.slice(0, 200)).join(" | ")`)
			assert.Equal(t, "true", p.eval(`String(document.documentElement.scrollWidth <= document.documentElement.clientWidth)`), "%s is wider than %d: %s", path, wide, over)
			if wide == 390 {
				p.accessibleIn("dark", path+" on a telephone", colours)
			} else {
				p.accessibleIn("light", path, allRules)
			}
			if wide == 1280 && !strings.Contains(path, long) {
				shift, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](shifted, chromedp.EvalAwaitPromise))
				require.NoError(t, err)
				assert.Empty(t, shift, "layout shift of %s", path)
			}
		}
	}
	p.do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(fmt.Sprintf("%s/jobs/%d", s.url, j.ID)))
	got, err := m.Job(t.Context(), j.ID)
	require.NoError(t, err)
	kolkata, err := time.LoadLocation("Asia/Kolkata")
	require.NoError(t, err)
	p.says(time.UnixMilli(int64(got.EnqueuedAt)).In(kolkata).Format("15:04:05"))

	// What a browser is given first is small.
	size, err := chromedp.Run(p.ctx, chromedp.Evaluate[int](`fetch("/").then(() => performance.getEntriesByType("resource").filter(e => e.name.endsWith(".js")).reduce((n, e) => n + e.encodedBodySize, 0))`, chromedp.EvalAwaitPromise))
	require.NoError(t, err)
	assert.Less(t, size, 200_000, "bytes of compressed JavaScript of the largest page")
	p.do(chromedp.Navigate(s.url + "/nowhere"))
	p.quiet("/nowhere")
}

// Seven tabs share one stream, and what they ask does not multiply by seven while nobody sees six
// of them. A service that hangs is noticed, and the page goes on by itself.
func TestSevenTabs(t *testing.T) {
	t.Parallel()
	s := serve(t)
	m := s.mule(client.HTTPClient(newHTTP()))
	p := open(t, s.url+"/jobs")
	p.says("The list is empty")
	var tabs []context.Context
	for range 6 {
		tab, cancel := chromedp.NewContext(p.ctx)
		t.Cleanup(cancel)
		require.NoError(t, chromedp.Do(tab, chromedp.Navigate(s.url+"/jobs"), chromedp.WaitVisible(chromedp.Search(`//header//*[contains(text(),"Live")]`))))
		// A tab of a headless browser is always seen; this is what the page is told when it is not.
		require.NoError(t, chromedp.Do(tab, chromedp.Evaluate[chromedp.Void](`Object.defineProperty(document, "hidden", {get: () => true}); Object.defineProperty(document, "visibilityState", {get: () => "hidden"}); document.dispatchEvent(new Event("visibilitychange")); performance.clearResourceTimings()`)))
		tabs = append(tabs, tab)
	}
	for n := range 20 {
		_, err := m.Enqueue(t.Context(), job.Spec{Task: "tide.predict"})
		require.NoError(t, err)
		p.waitFor(fmt.Sprintf(`document.querySelectorAll("tr[data-job]").length === %d`, n+1))
	}
	for i, tab := range tabs {
		asked, err := chromedp.Run(tab, chromedp.Evaluate[[]string](`performance.getEntriesByType("resource").map(e => e.name).filter(n => n.includes("/v1/"))`))
		require.NoError(t, err)
		assert.LessOrEqual(t, len(asked), 4, "tab %d asked %v, some of which was under way when it was hidden", i, asked)
	}
	s.pause()
	p.waitFor(`/No answer for \d+ s; figures of \d\d:\d\d:\d\d/.test(document.body.innerText)`)
	s.goOn()
	p.waitFor(`!document.body.innerText.includes("No answer for")`)
	_, err := m.Enqueue(t.Context(), job.Spec{Task: "tide.predict"})
	require.NoError(t, err)
	p.waitFor(`document.querySelectorAll("tr[data-job]").length === 21`)
}
