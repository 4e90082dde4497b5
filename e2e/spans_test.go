package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/browser"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/job"
)

// A span is chosen on the chart by pointer and by keys, stands in the address, and leads to its
// jobs; one crosshair goes through all that is drawn; a link shows the chart as it was.
func TestSpansOnCharts(t *testing.T) {
	t.Parallel()
	s := serveHarbour(t)
	p := open(t, s.url+"/?span=day")
	p.waitFor(`!!document.querySelector(".u-over")`)
	p.waitFor(`document.querySelectorAll("tr[data-queue] svg path").length > 4`)

	// The pointer, pressed at a quarter of the chart and let go at the half.
	mouse := func(kind string, part float64) {
		p.waitFor(fmt.Sprintf(`(() => {
			const over = document.querySelector(".u-over"), box = over.getBoundingClientRect();
			const at = {clientX: box.left + %v * box.width, clientY: box.top + 30, movementX: 5, bubbles: true, button: 0, buttons: 1, view: window};
			over.dispatchEvent(new MouseEvent(%q, at));
			return true;
		})()`, part, kind))
	}
	mouse("mouseenter", 0.25)
	mouse("mousemove", 0.25)
	p.waitFor(`/^\d+ [A-Z][a-z]{2} \d\d:\d\d: came in|^\d\d:\d\d: came in/.test(document.querySelector("[aria-label='Are we keeping up?'] p[aria-live]").innerText)`)
	mouse("mousedown", 0.25)
	mouse("mousemove", 0.4)
	mouse("mousemove", 0.5)
	mouse("mouseup", 0.5)
	p.waitFor(`new URLSearchParams(location.search).get("in")?.includes("/")`)
	bounds := strings.Split(p.eval(`new URLSearchParams(location.search).get("in")`), "/")
	from, err := time.Parse(time.RFC3339, bounds[0])
	require.NoError(t, err)
	to, err := time.Parse(time.RFC3339, bounds[1])
	require.NoError(t, err)
	assert.InDelta(t, 6, to.Sub(from).Hours(), 1, "a quarter of a day, %v", bounds)
	assert.InDelta(t, 18, time.Since(from).Hours(), 1)
	p.says("Compare with before")
	p.accessible("a span of the past")

	// The same chart again, by its address; its jobs; and the keys.
	p.do(chromedp.Reload())
	p.says("Compare with before")
	assert.Equal(t, fmt.Sprintf("/jobs?since=%s&until=%s", bounds[0], bounds[1]), p.eval(`document.evaluate('//a[text()="Its jobs"]', document, null, 9).singleNodeValue.getAttribute("href")`))
	p.press(`//button[text()="hour"]`)
	p.waitFor(`!location.search.includes("in=") && !!document.querySelector(".u-over")`)
	p.again(`[...document.querySelectorAll("tr[data-queue] svg")].every(svg => svg.querySelector("path[stroke-dasharray]"))`, func() {
		p.focus(`//*[@role="img"][@tabindex="0"]`)
		p.do(chromedp.KeyEvent(kb.ArrowLeft))
	})
	for range 5 {
		p.do(chromedp.KeyEvent(kb.ArrowLeft, chromedp.KeyModifiers(8)))
	}
	p.do(chromedp.KeyEvent(kb.Enter))
	p.waitFor(`new URLSearchParams(location.search).get("in")?.includes("/")`)
	bounds = strings.Split(p.eval(`new URLSearchParams(location.search).get("in")`), "/")
	from, _ = time.Parse(time.RFC3339, bounds[0])
	to, _ = time.Parse(time.RFC3339, bounds[1])
	assert.Equal(t, 5*time.Minute, to.Sub(from), "%v", bounds)
	p.quiet()
}

// A list goes to an id or a time and back, and each page gives its list as a file.
func TestJumpsAndFiles(t *testing.T) {
	t.Parallel()
	s := serve(t)
	m := s.mule(client.HTTPClient(newHTTP()))
	once := 1
	var specs []job.Spec
	for n := range 120 {
		specs = append(specs, job.Spec{Task: "dues.charge", Payload: job.JSON(n), MaxAttempts: &once})
	}
	many, err := m.EnqueueMany(t.Context(), specs)
	require.NoError(t, err)
	made := func(i int) int64 { return many.Jobs[i].ID }
	failing(t, m, "w-1", "2.5", "quay-3", "common", 7, job.Failure{Type: "bank", Message: `bank "quay", says "no"`})
	_, err = m.PutSchedule(t.Context(), "tides", api.Schedule{Every: job.Duration(time.Hour), Job: job.Spec{Task: "tide.predict"}})
	require.NoError(t, err)
	_, err = m.CancelJob(t.Context(), made(100))
	require.NoError(t, err)
	p := open(t, s.url+"/jobs")
	p.says("120 jobs")
	jump := func(text string) {
		p.focus(`//input[starts-with(@aria-label, "Go to")]`)
		p.do(chromedp.KeyEvent(text + kb.Enter))
	}
	jump("soon")
	p.says("Write an id, or a time such as 14:02")
	p.accessible("a place that is not one")
	p.do(chromedp.Evaluate[chromedp.Void](`document.querySelector('input[aria-label^="Go to"]').select()`))
	jump(fmt.Sprint(made(40)))
	p.says(fmt.Sprintf("From job %d on, older ones follow.", made(40)))
	p.waitFor(fmt.Sprintf(`document.querySelector("tr[data-index='0']")?.dataset.job === "%d"`, made(40)))
	p.do(chromedp.Reload())
	p.waitFor(fmt.Sprintf(`document.querySelector("tr[data-index='0']")?.dataset.job === "%d"`, made(40)))
	jump("2020-01-01")
	p.waitFor(`document.querySelectorAll("tr[data-job]").length === 0 && document.body.innerText.includes("From 1 Jan 2020")`)
	p.press(`//button[.="Back to the newest"]`)
	p.waitFor(fmt.Sprintf(`document.querySelector("tr[data-index='0']")?.dataset.job === "%d"`, made(119)))

	folder := t.TempDir()
	_, err = chromedp.Call(p.ctx, browser.SetDownloadBehavior, browser.SetDownloadBehaviorParams{Behavior: browser.SetDownloadBehaviorBehaviorAllow, DownloadPath: folder})
	require.NoError(t, err)
	for path, of := range map[string]struct{ name, holds string }{
		"/dead":     {"causes", "bank,bank “…”, says “…”,7,7,"},
		"/coming":   {"schedules", "tides,1h,"},
		"/queues":   {"queues", "common,false,"},
		"/workers":  {"workers", "quay-3"},
		"/log":      {"actions", "cancel"},
		"/settings": {"tasks", "dues.charge,"},
	} {
		p.do(chromedp.Navigate(s.url + path))
		p.press(`//main//button[contains(.,"Export")]`)
		p.press(`//*[@role="menuitem"][contains(.,"CSV")]`)
		p.says("Exported")
		require.Eventually(t, func() bool {
			found, _ := filepath.Glob(filepath.Join(folder, of.name+"-*.csv"))
			if len(found) == 0 {
				return false
			}
			body, err := os.ReadFile(found[0])
			return err == nil && strings.Contains(strings.ReplaceAll(string(body), `"`, ""), of.holds)
		}, 10*time.Second, 20*time.Millisecond, path)
	}
	p.quiet()
}
