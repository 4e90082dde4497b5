package harbour

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/base64"
	"fmt"
	"log/slog"
	random "math/rand/v2"
	"net/http"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/proof"
	"humblemule.example/job"
)

// PilotsKey is the variable of the environment that holds the secret of the pilots, who tell the harbour
// of arrivals by webhooks to the hook of that name.
const (
	PilotsKey    = "SALTMARROW_PILOTS_KEY"
	ArrivalsHook = "arrivals"
)

// NewKey draws a secret of Standard Webhooks.
func NewKey() string {
	raw := make([]byte, 32)
	rand.Read(raw) // never fails
	return "whsec_" + base64.StdEncoding.EncodeToString(raw)
}

// Announcement is what the pilots tell of a ship.
type Announcement struct {
	Manifest string `json:"manifest"`
	Agent    string `json:"agent"`
	Pilot    string `json:"pilot"`
}

// Pilots are a partner of the harbour, who send webhooks in bursts, one for each ship of a tide. They send
// some twice, since they did not hear the answer, and one in a while with an old key.
type Pilots struct {
	url, key string
	random   *random.Rand
	sent     int
}

// NewPilots makes pilots who deliver at an address. What they send follows from the seed.
func NewPilots(url, key string, seed uint64) *Pilots {
	return &Pilots{url: url, key: key, random: random.New(random.NewPCG(seed, 2))}
}

// Run sends a burst now and then until ctx ends. What is refused is told to the log.
func (p *Pilots) Run(ctx context.Context, log *slog.Logger) {
	for {
		for range 3 + p.random.IntN(5) {
			if err := p.announce(ctx); err != nil && ctx.Err() == nil {
				log.Debug("the pilots could not announce a ship", "error", err)
			}
		}
		select {
		case <-time.After(20*time.Second + time.Duration(p.random.Int64N(int64(20*time.Second)))):
		case <-ctx.Done():
			return
		}
	}
}

// announce sends one webhook, and one in eight again.
func (p *Pilots) announce(ctx context.Context) error {
	p.sent++
	a := Announcement{Manifest: ships[p.random.IntN(len(ships))], Agent: agents[p.random.IntN(len(agents))], Pilot: fmt.Sprintf("pilot-%d", 1+p.random.IntN(4))}
	key, times := p.key, 1
	switch p.random.IntN(8) {
	case 0:
		times = 2
	case 1:
		if p.random.IntN(4) == 0 {
			key = NewKey()
		}
	}
	id := fmt.Sprintf("arr-%s-%04d", time.Now().UTC().Format("150405"), p.sent)
	for range times {
		if err := Deliver(ctx, p.url, key, id, job.JSON(a)); err != nil {
			return err
		}
	}
	return nil
}

// Deliver sends a webhook as Standard Webhooks has it.
func Deliver(ctx context.Context, url, key, id string, body []byte) error {
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, url, bytes.NewReader(body))
	if err != nil {
		return err
	}
	r.Header.Set("Content-Type", "application/json")
	proof.Sign(api.Proof{Kind: api.ProofStandard}, []byte(key), r.Header, id, body, time.Now())
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusAccepted {
		return fmt.Errorf("the hook answered %s", answer.Status)
	}
	return nil
}
