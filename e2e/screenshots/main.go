// The screenshots command makes the pictures of the documentation from the demo:
// it runs bin/hmule demo --fixed and takes the console in headless Chromium and the
// commands in a terminal window.
package main

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"image"
	"image/draw"
	"image/png"
	"log"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/job"
)

// The demo with known outcomes, and the one that goes on, with thirty days behind it.
const (
	listen = "127.0.0.1:6871"
	live   = "127.0.0.1:6872"
)

func main() {
	out := flag.String("out", "../docs/screenshots", "folder for the pictures")
	program := flag.String("hmule", "../bin/hmule", "the built program")
	only := flag.String("only", "", "make only pictures whose name holds this")
	flag.Parse()
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Minute)
	defer cancel()
	if err := run(ctx, *out, *program, *only); err != nil {
		log.Fatal(err)
	}
}

func run(ctx context.Context, out, program, only string) error {
	end, err := open(ctx, program, "All ", "--fixed", "--stay", "--listen", listen)
	if err != nil {
		return err
	}
	defer end()
	endLive, err := open(ctx, program, "Saltmarrow", "--listen", live)
	if err != nil {
		return err
	}
	defer endLive()
	mule, err := client.New("http://" + listen)
	if err != nil {
		return err
	}
	if err := past(ctx, mule); err != nil {
		return err
	}
	s, err := choose(ctx, mule)
	if err != nil {
		return err
	}
	liveMule, err := client.New("http://" + live)
	if err != nil {
		return err
	}
	if err := chooseLive(ctx, liveMule, &s); err != nil {
		return err
	}
	if err := pages(ctx, out, only, s); err != nil {
		return err
	}
	return terminals(ctx, out, program, only, s)
}

// open starts a demo and waits until it says what begins with a word.
func open(ctx context.Context, program, says string, flags ...string) (end func(), err error) {
	demo := exec.CommandContext(ctx, program, append([]string{"demo"}, flags...)...)
	told, err := demo.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := demo.Start(); err != nil {
		return nil, err
	}
	end = func() {
		demo.Process.Signal(syscall.SIGTERM)
		demo.Wait()
	}
	lines := bufio.NewScanner(told)
	for !strings.HasPrefix(lines.Text(), says) {
		if !lines.Scan() {
			end()
			return nil, fmt.Errorf("the demo ended early, or a job did not end as planned")
		}
	}
	return end, nil
}

// shown are the jobs that the pictures show.
type shown struct {
	dead, waiting, ready, running job.Job
	batch                         int64 // one that is stuck
	// cause is one of the live demo, and deploy when a bad version was deployed there.
	cause  int64
	deploy string
}

// past gives the tides a history: some runs that somebody asked for.
func past(ctx context.Context, mule *client.Client) error {
	for range 9 {
		s, err := mule.RunSchedule(ctx, "tides")
		if err != nil {
			return err
		}
		if _, err := mule.WaitFor(ctx, s.Last.Job, time.Minute); err != nil {
			return err
		}
	}
	return nil
}

// choose finds jobs that are worth showing.
func choose(ctx context.Context, mule *client.Client) (s shown, err error) {
	for _, c := range []struct {
		into *job.Job
		f    api.Filter
	}{
		{&s.dead, api.Filter{States: []job.State{job.Dead}, Tasks: []string{"tide.predict"}}},
		{&s.waiting, api.Filter{States: []job.State{job.Scheduled}}},
		{&s.ready, api.Filter{States: []job.State{job.Ready}}},
		{&s.running, api.Filter{States: []job.State{job.Running}, Tasks: []string{"log.pack"}}},
	} {
		page, err := mule.ListJobs(ctx, c.f)
		if err != nil {
			return s, err
		}
		*c.into = page.Jobs[0]
	}
	stuck, err := mule.ListBatches(ctx, api.BatchQuery{State: api.BatchStuck})
	if err != nil || len(stuck.Batches) == 0 {
		return s, cmp.Or(err, errors.New("no batch is stuck"))
	}
	s.batch = stuck.Batches[0].ID
	return s, nil
}

// chooseLive finds what is worth showing of the live demo, when there is something.
func chooseLive(ctx context.Context, mule *client.Client, s *shown) error {
	for s.cause == 0 {
		causes, err := client.Collect(mule.Causes(ctx, api.CauseFilter{}))
		if err != nil {
			return err
		}
		for _, c := range causes {
			if strings.Contains(c.Template, "gull-rock") && c.Count > 3 {
				s.cause = c.ID
			}
		}
		select {
		case <-time.After(time.Second):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	marks, err := mule.Marks(ctx, job.At(time.Now().Add(-12*time.Hour)), 0)
	for _, m := range marks {
		if m.Kind == api.MarkDeploy && strings.Contains(m.Text, "2.4") {
			s.deploy = m.At.String()
		}
	}
	return err
}

func pages(ctx context.Context, out, only string, s shown) error {
	browser, cancel := chromedp.NewContext(ctx)
	defer cancel()
	at := func(path string, q url.Values) string {
		if len(q) > 0 {
			path += "?" + q.Encode()
		}
		return "http://" + listen + path
	}
	job := fmt.Sprintf("/jobs/%d", s.dead.ID)
	now := "http://" + live + "/"
	for _, p := range []struct {
		name, url     string
		width, height int64
		click         string
		dark          bool
	}{
		{name: "now", url: now, width: 1280, height: 800},
		{name: "job", url: at(job, url.Values{"state": {"dead"}}), width: 1280, height: 800},
		{name: "outside", url: now + "outside/hooks/arrivals", width: 1280, height: 800},
		{name: "alerts", url: now + "alerts/1", width: 1280, height: 800},
		{name: "workers", url: at("/workers", nil), width: 1280, height: 800},
		{name: "jobs", url: at("/jobs", url.Values{"state": {"dead,backoff,scheduled"}}), width: 1280, height: 800, click: `//button[contains(.,"Act on")]`},
		{name: "dead", url: now + "dead", width: 1280, height: 800},
		{name: "cause", url: fmt.Sprintf("%sdead/%d", now, s.cause), width: 1280, height: 800},
		{name: "compare", url: now + "compare?" + url.Values{"of": {"task:manifest.check"}, "at": {s.deploy}}.Encode(), width: 1280, height: 800},
		{name: "queues", url: at("/queues/bulletins", nil), width: 1280, height: 800},
		{name: "coming", url: at("/coming/tides", nil), width: 1280, height: 800},
		{name: "batch", url: at(fmt.Sprint("/batches/", s.batch), nil), width: 1280, height: 800, dark: true},
		{name: "phone", url: now, width: 390, height: 844},
	} {
		if !strings.Contains("page-"+p.name, only) {
			continue
		}
		steps := []chromedp.Action[chromedp.Void]{
			chromedp.EmulateViewport(p.width, p.height), chromedp.Navigate(p.url), chromedp.WaitVisible(chromedp.CSS("tr[data-job], tr[data-worker], tr[data-cause], tr[data-task], tr[data-queue], tr[data-schedule], tr[data-figure], tr[data-batch], tr[data-name], tr[data-alert]")), chromedp.Sleep(1500 * time.Millisecond),
		}
		if p.click != "" {
			steps = append(steps, chromedp.Click(chromedp.Search(p.click)), chromedp.Sleep(time.Second))
		}
		theme := map[bool]string{false: "light", true: "dark"}[p.dark]
		if _, err := chromedp.Call(browser, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: theme}}}); err != nil {
			return err
		}
		soon, stop := context.WithTimeout(browser, 20*time.Second)
		err := chromedp.Do(soon, steps...)
		stop()
		if err != nil {
			return fmt.Errorf("%s: %w", p.name, err)
		}
		picture, err := chromedp.Run(browser, chromedp.CaptureScreenshot())
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(out, "page-"+p.name+".png"), picture, 0o644); err != nil {
			return err
		}
		fmt.Println("page-" + p.name)
	}
	return nil
}

const background = "#16191d"

// terminals takes commands in a terminal window of 100 columns.
func terminals(ctx context.Context, out, program, only string, s shown) error {
	const display = ":97"
	x := exec.CommandContext(ctx, "Xvfb", display, "-screen", "0", "1020x1410x24")
	if err := x.Start(); err != nil {
		return err
	}
	defer func() {
		x.Process.Signal(syscall.SIGTERM)
		x.Wait()
	}()
	for range 100 {
		if _, err := os.Stat("/tmp/.X11-unix/X97"); err == nil {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	for _, t := range []struct {
		name     string
		commands []string
	}{
		{"jobs", []string{"hmule job list --limit 22"}},
		{"job", []string{fmt.Sprint("hmule job show ", s.dead.ID), fmt.Sprint("hmule job why ", s.waiting.ID), fmt.Sprint("hmule job why ", s.ready.ID)}},
		{"queues", []string{"hmule status", "hmule queue list", "hmule history --by task --times"}},
		{"workers", []string{"hmule worker list", "hmule worker show archive-room", fmt.Sprint("hmule job log ", s.running.ID)}},
		{"dead", []string{"hmule dead list", "hmule explain retry --limit 9"}},
		{"load", []string{"hmule load --example > load.yaml", "hmule load load.yaml 2>/dev/null"}},
	} {
		if !strings.Contains("terminal-"+t.name, only) {
			continue
		}
		if err := terminal(ctx, display, filepath.Join(out, "terminal-"+t.name+".png"), program, t.commands); err != nil {
			return fmt.Errorf("%s: %w", t.name, err)
		}
		fmt.Println("terminal-" + t.name)
	}
	return nil
}

func terminal(ctx context.Context, display, picture, program string, commands []string) error {
	folder, err := filepath.Abs(filepath.Dir(program))
	if err != nil {
		return err
	}
	done := filepath.Join(os.TempDir(), fmt.Sprintf("shown-%d", os.Getpid()))
	defer os.Remove(done)
	script := fmt.Sprintf("PATH=%s:$PATH; export HMULE_SERVER=http://%s; printf '\\033[?25l'; ", folder, listen) // without a cursor
	for _, c := range commands {
		script += fmt.Sprintf("printf '$ %%s\\n' %q; %s; ", c, c)
	}
	script += fmt.Sprintf("touch %s; sleep 60", done)
	term := exec.CommandContext(ctx, "xterm", "-tn", "xterm-256color", "-b", "8", "-fa", "DejaVu Sans Mono", "-fs", "12", "-geometry", "100x70+0+0", "-bg", background, "-fg", "#e8e4dc", "-e", "env", "COLORTERM=truecolor", "sh", "-c", script)
	here, err := os.MkdirTemp("", "shown-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(here)
	term.Dir, term.Env = here, append(os.Environ(), "DISPLAY="+display, "LC_ALL=C.UTF-8")
	if err := term.Start(); err != nil {
		return err
	}
	defer func() {
		term.Process.Kill()
		term.Wait()
	}()
	for ctx.Err() == nil {
		if _, err := os.Stat(done); err == nil {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	time.Sleep(300 * time.Millisecond)
	take := exec.CommandContext(ctx, "import", "-window", "root", "-crop", "1012x1390+2+2", "+repage", picture)
	take.Env = append(os.Environ(), "DISPLAY="+display)
	if err := take.Run(); err != nil {
		return err
	}
	return cutBelow(picture)
}

// cutBelow cuts off what is below the last line of a picture of a terminal.
func cutBelow(picture string) error {
	raw, err := os.ReadFile(picture)
	if err != nil {
		return err
	}
	all, err := png.Decode(bytes.NewReader(raw))
	if err != nil {
		return err
	}
	ground, last := all.At(all.Bounds().Max.X-3, all.Bounds().Max.Y-3), 0
	for y := range all.Bounds().Max.Y {
		for x := range all.Bounds().Max.X {
			if all.At(x, y) != ground {
				last = y
			}
		}
	}
	part := image.NewRGBA(image.Rect(0, 0, all.Bounds().Max.X, min(last+10, all.Bounds().Max.Y)))
	draw.Draw(part, part.Bounds(), all, image.Point{}, draw.Src)
	var out bytes.Buffer
	if err := png.Encode(&out, part); err != nil {
		return err
	}
	return os.WriteFile(picture, out.Bytes(), 0o644)
}
