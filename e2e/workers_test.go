package e2e

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"log/slog"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
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

// A person sees what every slot does, follows a running job's progress and log as
// they are told, cancels it, pauses the queue, and lets the worker leave.
func TestWorkersPage(t *testing.T) {
	t.Parallel()
	s := unalarmed(t)
	m := s.mule(client.HTTPClient(newHTTP()))
	pool := worker.New(m.Source(), worker.Options{Name: "quay", Slots: 3, Log: slog.New(slog.DiscardHandler)})
	step := make(chan int)
	worker.Handle(pool, "log.pack", func(ctx context.Context, quick bool) (bool, error) {
		for !quick {
			select {
			case n := <-step:
				worker.Job(ctx).Progress(float64(n), fmt.Sprint("block ", n))
				worker.Job(ctx).Log("wrote <i>block</i> %d", n)
			case <-ctx.Done():
				return false, ctx.Err()
			}
		}
		return true, nil
	})
	ended := make(chan error, 1)
	go func() { ended <- pool.Run(t.Context()) }()
	for range 30 {
		_, err := m.Enqueue(t.Context(), job.Spec{Task: "log.pack", Payload: job.JSON(true)})
		require.NoError(t, err)
	}
	j, err := m.Enqueue(t.Context(), job.Spec{Task: "log.pack", Payload: job.JSON(false)})
	require.NoError(t, err)

	p := open(t, s.url+"/workers")
	p.says("1 process runs jobs; 1 of 3 slots are taken.")
	p.says("1 job runs longer than 19 of 20 of its kind.")
	p.accessible("the workers")
	p.do(chromedp.Click(chromedp.CSS("tr[data-worker] a")))
	p.says("What its slots do")
	assert.Contains(t, p.eval("location.pathname"), "/workers/"+pool.ID())
	step <- 40
	p.says("block 40")
	p.accessible("one worker")

	p.do(chromedp.Click(chromedp.CSS(fmt.Sprintf(`aside a[href="/jobs/%d"]`, j.ID))))
	p.says("wrote <i>block</i> 40")
	step <- 60
	p.says("wrote <i>block</i> 60")
	p.says("60 %")
	p.accessible("a running job")
	p.do(chromedp.Click(chromedp.CSS("aside .button")))
	p.says("1 job is asked to end, within a second.")
	p.submit()
	p.says("It was cancelled on request.")

	// What it ran is found by its id and by its name.
	p.do(chromedp.Navigate(s.url+"/workers/"+pool.ID()), chromedp.Click(chromedp.Search(`//a[text()="Jobs that it runs or ran last"]`)))
	p.says("31 jobs")
	assert.Equal(t, pool.ID(), p.eval(`new URLSearchParams(location.search).get("worker")`))
	for name, n := range map[string]int{"quay": 31, pool.ID(): 31, "crane": 0} {
		jobs, err := client.Collect(m.Jobs(t.Context(), api.Filter{Worker: name}))
		require.NoError(t, err)
		assert.Len(t, jobs, n, name)
	}
	listed, _, status := run(t, "", "job", "list", "--server", s.url, "--worker", "quay", "--state", "cancelled", "-o", "ids")
	assert.Zero(t, status)
	assert.Equal(t, fmt.Sprintln(j.ID), listed)

	p.do(chromedp.Navigate(s.url+"/queues/common"), chromedp.Click(chromedp.Search(`//button[text()="Pause queue common"]`)))
	p.says("Nothing of 1 queue starts any more")
	p.says("hmule queue pause common")
	p.submit()
	p.says("Paused: common.")
	_, err = m.Enqueue(t.Context(), job.Spec{Task: "log.pack", Payload: job.JSON(true)})
	require.NoError(t, err)
	p.do(chromedp.Click(chromedp.Search(`//button[text()="Resume queue common"]`)))
	p.submit()
	p.says("All is well: ")

	p.do(chromedp.Navigate(s.url+"/workers/"+pool.ID()), chromedp.Click(chromedp.Search(`//button[text()="Drain quay"]`)))
	p.says("1 worker takes no more jobs. It runs no job now.")
	p.accessible("the dialog of a worker")
	p.submit()
	p.says("1 process takes no more jobs.")
	p.do(chromedp.Click(chromedp.Search(`//button[text()="Let quay leave"]`)))
	p.submit()
	require.NoError(t, <-ended)
	p.says("Its process has ended.")
	p.says("hmule pool --slots 4 --run log.pack='./pack.sh'")
	p.do(chromedp.EmulateViewport(390, 844))
	p.waitFor(`document.documentElement.scrollWidth <= document.documentElement.clientWidth`)
	p.quiet()
}

// Behind tokens the console asks for one, keeps it for its tab, and shows no action
// to a reader; every command and call bears its token's name; a token that is taken
// away is good no more.
func TestTokensFile(t *testing.T) {
	t.Parallel()
	tokens := filepath.Join(t.TempDir(), "tokens.yaml")
	secret := func(name, role string) string {
		out, errs, status := run(t, "", "token", "new", name, "--role", role, "--tokens", tokens)
		require.Equal(t, 0, status, errs)
		return strings.SplitN(out, "\n", 2)[0]
	}
	quay, ada, rhea := secret("quay", "worker"), secret("ada", "operator"), secret("rhea", "reader")
	raw, err := os.ReadFile(tokens)
	require.NoError(t, err)
	assert.NotContains(t, string(raw), ada)
	s := &service{t: t, data: filepath.Join(t.TempDir(), "tokens.db"), listen: freeAddress(t), flags: []string{"--tokens", tokens}}
	s.start()
	t.Cleanup(s.kill)

	m := s.mule(client.Token(quay), client.HTTPClient(newHTTP()))
	pool := worker.New(m.Source(), worker.Options{Name: "quay", Log: slog.New(slog.DiscardHandler)})
	worker.Handle(pool, "log.pack", func(context.Context, bool) (string, error) { return "packed", nil })
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- pool.Run(ctx) }()
	enqueued, err := m.Enqueue(t.Context(), job.Spec{Task: "log.pack", Payload: job.JSON(true)})
	require.NoError(t, err)
	j, err := m.WaitFor(t.Context(), enqueued.ID, 2*time.Minute)
	require.NoError(t, err)
	packed, err := client.Result[string](j)
	require.NoError(t, err)
	assert.Equal(t, "packed", packed)
	_, err = m.ListJobs(t.Context(), api.Filter{})
	assert.ErrorContains(t, err, "token quay has the role worker, which may not GET /v1/jobs")
	assert.Equal(t, 401, s.ask("GET", "/v1/jobs", "").status)
	_, errs, status := run(t, s.url, "job", "list")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "HMULE_TOKEN")

	p := open(t, s.url+"/workers")
	p.says("This service asks for a token.")
	p.accessible("the question for a token")
	enter := func(token string) {
		p.waitFor(`document.activeElement?.type === "password"`)
		p.do(chromedp.KeyEvent(token + "\r"))
	}
	enter("hmule-token-of-nobody")
	p.says("This token is not valid")
	enter(quay)
	p.says("The token of quay has the role worker, which cannot look at the console")
	enter(rhea)
	p.says("rhea, reader")
	p.says("1 process runs jobs")
	p.says("Live")
	p.do(chromedp.Navigate(fmt.Sprintf("%s/jobs/%d", s.url, j.ID)))
	p.says("Its handler finished it")
	assert.Equal(t, "0", p.eval(`String(document.querySelectorAll("aside .button").length)`), "a reader is shown no action")
	p.do(chromedp.Click(chromedp.Search(`//button[text()="Sign out"]`)))
	p.says("This service asks for a token.")
	enter(ada)
	p.says("ada, operator")
	p.do(chromedp.Click(chromedp.CSS("aside .button")))
	p.submit()
	p.says("round 2")
	p.do(chromedp.Navigate(s.url + "/settings"))
	p.says("You alone are signed in.")
	assert.Equal(t, "0 0 ", p.eval("localStorage.getItem('token') === null ? `${sessionStorage.length} ${Object.keys(localStorage).filter((k) => /token/.test(k)).length} ${document.cookie}` : ''"), "no script can read what signs in")
	list, _, status := run(t, s.url, "session", "list", "-o", "ids")
	assert.Equal(t, 1, status, "it asks for a token itself: %s", list)

	// Her token expires while the page is open, which then asks for another by itself.
	soon := time.Now().Add(3 * time.Second).UTC().Format(time.RFC3339)
	require.NoError(t, os.WriteFile(tokens, []byte(strings.Replace(string(raw), "    role: operator\n", "    role: operator\n    expires: "+soon+"\n", 1)), 0o600))
	s.cmd.Process.Signal(syscall.SIGHUP)
	s.log.find(t, `were read again" tokens=3`)
	p.says("Your session has ended.")
	assert.Equal(t, 401, s.ask("GET", "/v1/jobs", "", "Authorization: Bearer "+ada).status)
	assert.Equal(t, 200, s.ask("GET", "/v1/jobs", "", "Authorization: Bearer "+rhea).status)

	require.NoError(t, os.WriteFile(tokens, []byte(strings.Split(string(raw), "  - name: \"rhea\"")[0]), 0o600))
	s.cmd.Process.Signal(syscall.SIGHUP)
	s.log.find(t, `were read again" tokens=2`)
	assert.Equal(t, 401, s.ask("GET", "/v1/jobs", "", "Authorization: Bearer "+rhea).status)
	assert.Equal(t, 200, s.ask("GET", "/v1/jobs", "", "Authorization: Bearer "+ada).status)
	cancel()
	require.NoError(t, <-ended)
}

// certificate writes a certificate for this machine and its key into a folder.
func certificate(t *testing.T, dir string) (cert, keyFile string, der []byte) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour), DNSNames: []string{"localhost"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true, BasicConstraintsValid: true}
	der, err = x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	require.NoError(t, err)
	raw, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	write := func(name, kind string, bytes []byte) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: bytes}), 0o600))
		return path
	}
	return write("cert.pem", "CERTIFICATE", der), write("key.pem", "PRIVATE KEY", raw), der
}

// trusting is a transport that trusts some certificates, and speaks HTTP/2 where the service does.
func trusting(pool *x509.CertPool) *http.Transport {
	return &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}, ForceAttemptHTTP2: true}
}

// secondVersion speaks HTTP/2: a take that waits, a stream and calls share one connection, and none
// holds up another.
func (s *service) secondVersion(t *testing.T, m *client.Client, pool *x509.CertPool) {
	over := &http.Client{Transport: trusting(pool)}
	defer over.CloseIdleConnections()
	stream, err := over.Get(s.url + "/v1/events")
	require.NoError(t, err)
	defer stream.Body.Close()
	require.Equal(t, 2, stream.ProtoMajor)
	m2, err := client.New(s.url, client.HTTPClient(over))
	require.NoError(t, err)
	defer m2.Close()
	taken := make(chan int, 1)
	go func() {
		a, err := m2.Source().Lease(t.Context(), api.LeaseRequest{Worker: "w", Queues: []string{"common"}, Limit: 1, Wait: job.Duration(30 * time.Second)})
		assert.NoError(t, err)
		taken <- len(a.Leases)
	}()
	_, err = m2.Enqueue(t.Context(), job.Spec{Task: "tide.predict"})
	require.NoError(t, err)
	assert.Equal(t, 1, <-taken)
	text := ""
	for part := make([]byte, 4096); !strings.Contains(text, "event: jobs"); {
		n, err := stream.Body.Read(part)
		require.NoError(t, err, "before a job was told of: %s", text)
		text += string(part[:n])
	}
}

// otherCertificate changes the files of the certificate: what cannot be used changes nothing, and a
// new one is used by itself.
func (s *service) otherCertificate(t *testing.T, dir string) {
	broken := filepath.Join(dir, "cert.pem")
	before, err := os.ReadFile(broken)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(broken, before[:len(before)/2], 0o600))
	s.cmd.Process.Signal(syscall.SIGHUP)
	s.log.find(t, "cannot be used")
	pool := x509.NewCertPool()
	require.True(t, pool.AppendCertsFromPEM(before))
	get := func() error {
		over := &http.Client{Transport: trusting(pool)}
		defer over.CloseIdleConnections()
		resp, err := over.Get(s.url + "/livez")
		if err == nil {
			resp.Body.Close()
		}
		return err
	}
	require.NoError(t, get(), "the one before stays")
	_, _, der := certificate(t, dir)
	pool = x509.NewCertPool()
	require.True(t, pool.AppendCertsFromPEM(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})))
	require.Eventually(t, func() bool { return get() == nil }, 30*time.Second, 250*time.Millisecond)
}

// With a certificate the service speaks TLS and nothing else.
func TestTLS(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	cert, keyFile, der := certificate(t, dir)
	s := &service{t: t, data: filepath.Join(dir, "tls.db"), listen: freeAddress(t), flags: []string{"--tls-cert", cert, "--tls-key", keyFile}}
	s.start()
	t.Cleanup(s.kill)
	require.True(t, strings.HasPrefix(s.url, "https://"))
	pool := x509.NewCertPool()
	require.True(t, pool.AppendCertsFromPEM(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})))
	m, err := client.New(s.url, client.HTTPClient(&http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}}}))
	require.NoError(t, err)
	defer m.Close()
	about, err := m.About(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "operator", about.Role)
	s.secondVersion(t, m, pool)
	s.otherCertificate(t, dir)
	resp, err := http.Get("http://" + s.listen + "/v1")
	require.NoError(t, err)
	defer resp.Body.Close()
	assert.Equal(t, http.StatusBadRequest, resp.StatusCode)
	said, errs, status := run(t, "", "check", "--tls-cert", cert, "--tls-key", keyFile)
	assert.Equal(t, 0, status, errs)
	assert.Contains(t, said, "expires in 60 min")
	require.NoError(t, os.Chmod(keyFile, 0o644))
	said, _, status = run(t, "", "check", "--tls-cert", cert, "--tls-key", keyFile)
	assert.Equal(t, 1, status)
	assert.Contains(t, said, "other users can read the key")
	_, errs, status = run(t, "", "serve", "--data", filepath.Join(dir, "b.db"), "--listen", freeAddress(t), "--tls-cert", cert)
	assert.Equal(t, 2, status)
	assert.Contains(t, errs, "belong together")
	_, errs, status = run(t, "", "serve", "--data", filepath.Join(dir, "b.db"), "--listen", "0.0.0.0:0")
	assert.Equal(t, 2, status)
	assert.Contains(t, errs, "needs tokens")
}
