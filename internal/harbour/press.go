package harbour

import (
	"context"
	"encoding/json"
	"math/rand/v2"
	"net"
	"net/http"
	"sync"
	"time"

	"humblemule.example/job"
)

// PressTell is the task of which the service tells the press itself, by calls.
const PressTell = "press.tell"

// Press is a subscriber outside of the harbour, who takes few notices a second, fails now and then, and is
// away for half a minute every ten minutes.
type Press struct {
	listener net.Listener
	mu       sync.Mutex
	random   *rand.Rand
	began    time.Time
	window   time.Time
	taken    int
}

// The press takes so many notices in a span, and one in so many goes wrong.
const (
	pressTakes  = 4
	pressSpan   = 2 * time.Second
	pressFails  = 12
	pressAway   = 30 * time.Second
	pressCircle = 10 * time.Minute
)

// NewPress opens a press on this machine, whose moods follow from the seed.
func NewPress(seed uint64) (*Press, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	return &Press{listener: l, random: rand.New(rand.NewPCG(seed, 3)), began: time.Now()}, err
}

// URL is where it takes notices.
func (p *Press) URL() string { return "http://" + p.listener.Addr().String() + "/notices" }

// Run takes notices until ctx ends.
func (p *Press) Run(ctx context.Context) {
	srv := &http.Server{Handler: http.HandlerFunc(p.take), ReadHeaderTimeout: time.Second}
	context.AfterFunc(ctx, func() { srv.Close() })
	srv.Serve(p.listener)
}

func (p *Press) take(w http.ResponseWriter, r *http.Request) {
	status := p.judge()
	w.Header().Set("Content-Type", "application/json")
	if status == http.StatusTooManyRequests {
		w.Header().Set("Retry-After", "3")
	}
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(map[string]any{"printed": status == http.StatusOK, "says": http.StatusText(status)})
}

// judge is how the press takes the next notice.
func (p *Press) judge() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	now := time.Now()
	if now.Sub(p.began)%pressCircle > pressCircle-pressAway {
		return http.StatusServiceUnavailable
	}
	if now.Sub(p.window) > pressSpan {
		p.window, p.taken = now, 0
	}
	if p.taken++; p.taken > pressTakes {
		return http.StatusTooManyRequests
	}
	switch p.random.IntN(2 * pressFails) {
	case 0, 1:
		return http.StatusInternalServerError
	case 2:
		return http.StatusUnprocessableEntity
	}
	return http.StatusOK
}

// tell has the service tell the press of a ship.
func (t *Traffic) tell() job.Spec {
	ship := ships[t.random.IntN(len(ships))]
	return job.Spec{
		Task: PressTell, Queue: "bulletins", Owner: agents[t.random.IntN(len(agents))], Key: ship, Retry: &job.Retry{First: job.Duration(4 * time.Second)},
		Call: &job.Call{URL: t.press, Headers: map[string]job.HeaderValue{"X-Harbour": {Text: "Saltmarrow"}}, Body: job.JSON(map[string]string{"ship": ship, "says": "is expected on the next tide"})},
	}
}
