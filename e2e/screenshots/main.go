// The screenshots command makes the pictures of the documentation from the demo:
// it starts bin/hmule demo, waits until a job has reached every state, and takes
// the console in headless Chromium and the commands in a terminal window.
package main

import (
	"context"
	"flag"
	"fmt"
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

	"humblemule/client"
	"humblemule/core/job"
)

const listen = "127.0.0.1:6871"

func main() {
	out := flag.String("out", "docs/screenshots", "folder for the pictures")
	program := flag.String("hmule", "bin/hmule", "the built program")
	only := flag.String("only", "", "make only pictures whose name holds this")
	flag.Parse()
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Minute)
	defer cancel()
	if err := run(ctx, *out, *program, *only); err != nil {
		log.Fatal(err)
	}
}

func run(ctx context.Context, out, program, only string) error {
	demo := exec.CommandContext(ctx, program, "demo", "--listen", listen)
	if err := demo.Start(); err != nil {
		return err
	}
	defer func() {
		demo.Process.Signal(syscall.SIGTERM)
		demo.Wait()
	}()
	mule, err := client.New("http://" + listen)
	if err != nil {
		return err
	}
	fmt.Println("The harbour works until a job has reached every state …")
	shown, err := everyState(ctx, mule)
	if err != nil {
		return err
	}
	if err := pages(ctx, out, only, shown); err != nil {
		return err
	}
	return terminals(ctx, out, program, only, shown)
}

// shown are the jobs that the pictures show.
type shown struct{ dead, waiting job.Job }

// everyState waits until there are jobs in all states that the demo reaches, and
// one that has died of a used-up round.
func everyState(ctx context.Context, mule *client.Client) (s shown, err error) {
	for ctx.Err() == nil {
		stats, err := mule.Stats(ctx, "")
		if err != nil {
			return s, err
		}
		all := true
		for _, state := range []job.State{job.Scheduled, job.Backoff, job.Done, job.Skipped, job.Cancelled, job.Dead} {
			all = all && stats.Counts[state] > 0
		}
		dead, err := mule.Jobs(ctx, job.Filter{States: []job.State{job.Dead}, Tasks: []string{"tide.predict"}})
		if err != nil {
			return s, err
		}
		waiting, err := mule.Jobs(ctx, job.Filter{States: []job.State{job.Scheduled}})
		if err != nil {
			return s, err
		}
		if all && stats.Counts[job.Done] > 50 && len(dead.Jobs) > 0 && len(waiting.Jobs) > 0 {
			return shown{dead.Jobs[0], waiting.Jobs[0]}, nil
		}
		time.Sleep(300 * time.Millisecond)
	}
	return s, ctx.Err()
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
	for _, p := range []struct {
		name, url     string
		width, height int64
		dark          bool
		click         string
	}{
		{name: "now", url: at("/", nil), width: 1280, height: 800},
		{name: "now-dark", url: at("/", nil), width: 1280, height: 800, dark: true},
		{name: "job", url: at(job, url.Values{"state": {"dead"}}), width: 1280, height: 800},
		{name: "requeue", url: at(job, nil), width: 1280, height: 800, click: "aside button"},
		{name: "phone", url: at("/", nil), width: 390, height: 844},
	} {
		if !strings.Contains("page-"+p.name, only) {
			continue
		}
		theme := "light"
		if p.dark {
			theme = "dark"
		}
		if _, err := chromedp.Call(browser, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: theme}}}); err != nil {
			return err
		}
		steps := []chromedp.Action[chromedp.Void]{
			chromedp.EmulateViewport(p.width, p.height), chromedp.Navigate(p.url), chromedp.WaitVisible(chromedp.CSS("tr[data-job]")), chromedp.Sleep(1500 * time.Millisecond),
		}
		if p.click != "" {
			steps = append(steps, chromedp.Click(chromedp.CSS(p.click)), chromedp.WaitVisible(chromedp.CSS("[role=dialog]")), chromedp.Sleep(300*time.Millisecond))
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

// terminals takes commands in a terminal window of 100 columns.
func terminals(ctx context.Context, out, program, only string, s shown) error {
	const display = ":97"
	x := exec.CommandContext(ctx, "Xvfb", display, "-screen", "0", "1020x610x24")
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
	for _, t := range []struct{ name, command string }{
		{"jobs", "hmule jobs --limit 22"},
		{"dead", "hmule jobs --state dead,backoff"},
		{"job", fmt.Sprintf("hmule job %d", s.dead.ID)},
		{"why", fmt.Sprintf("hmule why %d; hmule why %d; hmule why 999999", s.waiting.ID, s.dead.ID)},
		{"help", "hmule --help"},
	} {
		if !strings.Contains("terminal-"+t.name, only) {
			continue
		}
		if err := terminal(ctx, display, filepath.Join(out, "terminal-"+t.name+".png"), program, t.command); err != nil {
			return fmt.Errorf("%s: %w", t.name, err)
		}
		fmt.Println("terminal-" + t.name)
	}
	return nil
}

func terminal(ctx context.Context, display, picture, program, command string) error {
	folder, err := filepath.Abs(filepath.Dir(program))
	if err != nil {
		return err
	}
	done := filepath.Join(os.TempDir(), fmt.Sprintf("shown-%d", os.Getpid()))
	defer os.Remove(done)
	script := fmt.Sprintf("PATH=%s:$PATH; export HMULE_SERVER=http://%s; printf '$ %%s\\n' %q; %s; touch %s; sleep 60", folder, listen, command, command, done)
	term := exec.CommandContext(ctx, "xterm", "-tn", "xterm-256color", "-b", "8", "-fa", "DejaVu Sans Mono", "-fs", "12", "-geometry", "100x30+0+0", "-bg", "#16191d", "-fg", "#e8e4dc", "-e", "env", "COLORTERM=truecolor", "sh", "-c", script)
	term.Env = append(os.Environ(), "DISPLAY="+display, "LC_ALL=C.UTF-8")
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
	take := exec.CommandContext(ctx, "import", "-window", "root", picture)
	take.Env = append(os.Environ(), "DISPLAY="+display)
	return take.Run()
}
