package e2e

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
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

// example is the configuration of nginx that the documentation shows, with what is this machine's
// filled in.
func example(t *testing.T, name string, fill ...string) string {
	raw, err := os.ReadFile(filepath.Join("..", "docs", "examples", name))
	require.NoError(t, err)
	text := string(raw)
	for i := 0; i < len(fill); i += 2 {
		require.Contains(t, text, fill[i], name)
		text = strings.ReplaceAll(text, fill[i], fill[i+1])
	}
	return text
}

// nginx starts Debian's nginx with servers of a configuration, until the test ends.
func nginx(t *testing.T, servers string) {
	dir := t.TempDir()
	conf := filepath.Join(dir, "nginx.conf")
	whole := fmt.Sprintf("daemon off;\nmaster_process off;\npid %[1]s/pid;\nerror_log %[1]s/error.log;\nevents {}\nhttp {\naccess_log off;\nclient_body_temp_path %[1]s/body;\nproxy_temp_path %[1]s/proxy;\nfastcgi_temp_path %[1]s/f;\nuwsgi_temp_path %[1]s/u;\nscgi_temp_path %[1]s/s;\n%[2]s\n}\n", dir, servers)
	require.NoError(t, os.WriteFile(conf, []byte(whole), 0o600))
	cmd := exec.Command("/usr/sbin/nginx", "-c", conf, "-p", dir)
	cmd.Stderr = os.Stderr
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
		cmd.Wait()
		if log, err := os.ReadFile(filepath.Join(dir, "error.log")); err == nil && t.Failed() {
			t.Log(string(log))
		}
	})
}

func answers(t *testing.T, url string) {
	require.Eventually(t, func() bool {
		resp, err := http.Get(url)
		if err != nil {
			return false
		}
		resp.Body.Close()
		return resp.StatusCode == http.StatusOK
	}, 10*time.Second, 20*time.Millisecond, url)
}

// Behind nginx, at a name of its own and under a path of a shared one, everything works as without:
// the console, long polls, streams of events and large uploads.
func TestBehindNginx(t *testing.T) {
	t.Parallel()
	for name, base := range map[string]string{"nginx-own-name.conf": "", "nginx-under-path.conf": "/jobs"} {
		t.Run(name, func(t *testing.T) {
			flags := []string{"--forwarders", "127.0.0.1"}
			if base != "" {
				flags = append(flags, "--base-path", base)
			}
			s := serve(t, flags...)
			at := freeAddress(t)
			nginx(t, example(t, name, "listen 80;", "listen "+at+";", "127.0.0.1:6853", s.listen))
			url := "http://" + at + base
			answers(t, url+"/")
			m, err := client.New(url, client.RetryFor(0))
			require.NoError(t, err)
			defer m.Close()

			// A stream is not held back.
			ctx, end := context.WithTimeout(t.Context(), time.Minute)
			defer end()
			heard := make(chan client.Event, 100)
			go m.Events(ctx, "", func(e client.Event) error { heard <- e; return nil })
			first := <-heard
			assert.Equal(t, "reset", first.Name)

			// An upload of many megabytes comes whole.
			specs := make([]job.Spec, 100)
			for i := range specs {
				specs[i] = job.Spec{Task: "log.pack", Queue: "archive", Payload: job.JSON(strings.Repeat("x", 100_000))}
			}
			made, err := m.EnqueueMany(ctx, specs)
			require.NoError(t, err)
			require.Len(t, made.Jobs, len(specs))
			for e := range heard {
				if e.Name == "jobs" {
					break
				}
			}

			// A long poll waits, and is answered at once where there is something.
			pool := worker.New(m.Source(), worker.Options{Queues: []string{"common"}, Slots: 1, Log: slog.New(slog.DiscardHandler)})
			worker.Handle(pool, "tide.predict", func(_ context.Context, station string) (string, error) { return station, nil })
			working, stop := context.WithCancel(ctx)
			var ran sync.WaitGroup
			ran.Go(func() { assert.NoError(t, pool.Run(working)) })
			require.Eventually(t, func() bool {
				w, err := client.Collect(m.Workers(ctx))
				return err == nil && len(w) == 1
			}, 10*time.Second, 10*time.Millisecond)
			e, err := m.Enqueue(ctx, job.Spec{Task: "tide.predict", Payload: job.JSON("inner-quay")})
			require.NoError(t, err)
			done, err := m.WaitFor(ctx, e.ID, 30*time.Second)
			require.NoError(t, err)
			assert.Equal(t, job.Done, done.State)
			stop()
			ran.Wait()

			resp, err := http.Post(url+"/v1/jobs", "application/json", strings.NewReader(`{"task":"tide.predict"}`))
			require.NoError(t, err)
			resp.Body.Close()
			assert.True(t, strings.HasPrefix(resp.Header.Get("Location"), base+"/v1/jobs/"), resp.Header)

			// The console loads, goes to another page and hears what changes.
			p := open(t, url+"/queues")
			p.says("archive")
			assert.Equal(t, base+"/dead", p.eval(`document.querySelector('nav a[href$="/dead"]').getAttribute('href')`))
			p.press(`//nav//a[normalize-space()="Jobs"]`)
			p.says("log.pack")
			assert.Equal(t, base+"/jobs", p.eval(`location.pathname`))
			_, err = m.Enqueue(ctx, job.Spec{Task: "fog.bulletin"})
			require.NoError(t, err)
			p.says("fog.bulletin") // it hears of it
			p.do(chromedp.Reload())
			p.says("fog.bulletin")
			p.quiet()
		})
	}
}

// Over a restart of a service whose socket somebody else keeps open, no request of the client
// fails, and a stream of events goes on.
func TestRestartWithSocketKept(t *testing.T) {
	t.Parallel()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	file, err := l.(*net.TCPListener).File()
	require.NoError(t, err)
	defer file.Close()
	url := "http://" + l.Addr().String()
	require.NoError(t, l.Close())
	data := filepath.Join(t.TempDir(), "jobs.db")
	log := &journal{more: make(chan struct{})}
	start := func() *exec.Cmd {
		cmd := exec.Command("sh", "-c", `LISTEN_PID=$$ exec "$0" serve --data "$1"`, hmule, data)
		cmd.Env = append(os.Environ(), "LISTEN_FDS=1")
		cmd.ExtraFiles, cmd.Stderr = []*os.File{file}, log
		require.NoError(t, cmd.Start())
		return cmd
	}
	m, err := client.New(url, client.RetryFor(0)) // each call is made once
	require.NoError(t, err)
	defer m.Close()
	ctx, end := context.WithTimeout(t.Context(), 2*time.Minute)
	defer end()
	running := start()
	var enqueued []int64
	var callers sync.WaitGroup
	over := make(chan struct{})
	callers.Go(func() {
		for {
			select {
			case <-over:
				return
			default:
			}
			e, err := m.Enqueue(ctx, job.Spec{Task: "tide.predict"})
			if !assert.NoError(t, err) {
				return
			}
			enqueued = append(enqueued, e.ID)
		}
	})
	for range 3 {
		before := len(idsOf(t, ctx, m))
		require.Eventually(t, func() bool { return len(idsOf(t, ctx, m)) > before }, 10*time.Second, 10*time.Millisecond)
		require.NoError(t, running.Process.Signal(syscall.SIGTERM))
		require.NoError(t, running.Wait())
		running = start()
	}
	close(over)
	callers.Wait()
	assert.Subset(t, idsOf(t, ctx, m), enqueued[max(0, len(enqueued)-500):])
	require.NoError(t, running.Process.Signal(syscall.SIGTERM))
	require.NoError(t, running.Wait())
}

func idsOf(t *testing.T, ctx context.Context, m *client.Client) (ids []int64) {
	page, err := m.ListJobs(ctx, api.Filter{Limit: api.MaxPage})
	require.NoError(t, err)
	for _, j := range page.Jobs {
		ids = append(ids, j.ID)
	}
	return ids
}

// A service answers by a socket of this machine, which only its account and its group may use.
func TestSocket(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	socket := filepath.Join(dir, "hmule.sock")
	start := func() (*exec.Cmd, *journal) {
		log := &journal{more: make(chan struct{})}
		cmd := exec.Command(hmule, "serve", "--data", filepath.Join(dir, "jobs.db"), "--listen", "unix:"+socket)
		cmd.Stderr = log
		require.NoError(t, cmd.Start())
		return cmd, log
	}
	cmd, _ := start()
	m, err := client.New("unix:" + socket)
	require.NoError(t, err)
	defer m.Close()
	e, err := m.Enqueue(t.Context(), job.Spec{Task: "tide.predict"})
	require.NoError(t, err, "it is retried until the service is there")
	out, err := exec.Command(hmule, "job", "show", fmt.Sprint(e.ID), "--server", "unix:"+socket).CombinedOutput()
	require.NoError(t, err, string(out))
	info, err := os.Stat(socket)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o660), info.Mode().Perm())
	second := exec.Command(hmule, "serve", "--data", filepath.Join(dir, "other.db"), "--listen", "unix:"+socket)
	out, err = second.CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "a service already listens on "+socket)
	require.NoError(t, cmd.Process.Kill()) // which leaves the socket
	cmd.Wait()
	cmd, _ = start()
	_, err = m.Job(t.Context(), e.ID)
	require.NoError(t, err, "a socket that nobody listens on is put away")
	require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
	require.NoError(t, cmd.Wait())
	require.NoError(t, os.WriteFile(socket, nil, 0o600))
	out, err = exec.Command(hmule, "serve", "--data", filepath.Join(dir, "jobs.db"), "--listen", "unix:"+socket).CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "is not a socket, and is left as it is")
}

// Whoever started the service is told when it is ready, that it lives, and that it ends.
func TestSystemd(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	socket := filepath.Join(dir, "notify")
	l, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: socket, Net: "unixgram"})
	require.NoError(t, err)
	defer l.Close()
	cmd := exec.Command(hmule, "serve", "--data", filepath.Join(dir, "jobs.db"), "--listen", freeAddress(t))
	cmd.Env = append(os.Environ(), "NOTIFY_SOCKET="+socket, "WATCHDOG_USEC=300000")
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { cmd.Process.Kill() })
	told := func() string {
		b := make([]byte, 100)
		require.NoError(t, l.SetReadDeadline(time.Now().Add(20*time.Second)))
		n, err := l.Read(b)
		require.NoError(t, err)
		return string(b[:n])
	}
	assert.Equal(t, "READY=1", told())
	for range 3 {
		assert.Equal(t, "WATCHDOG=1", told())
	}
	require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
	last := told()
	for last == "WATCHDOG=1" {
		last = told()
	}
	assert.Equal(t, "STOPPING=1", last)
	require.NoError(t, cmd.Wait())
}
