package server

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"io"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/go-json-experiment/json"

	"humblemule.example/api"
	"humblemule.example/internal/core/engine"
	"humblemule.example/internal/proof"
	"humblemule.example/job"
)

// Secrets gives the secrets by which hooks prove their senders.
type Secrets interface {
	OfHook(secret, hook string) ([]byte, error)
}

// hooksPath is what the paths of hooks begin with.
const hooksPath = "/hooks/"

func (s *Server) listHooks(c *gin.Context) (any, error) {
	all, err := s.engine.Hooks(c.Request.Context())
	for i := range all {
		s.tellHook(&all[i])
	}
	return struct {
		Hooks []api.HookStatus `json:"hooks"`
	}{all}, err
}

func (s *Server) getHook(c *gin.Context) (any, error) {
	h, err := s.engine.Hook(c.Request.Context(), c.Param("name"))
	s.tellHook(&h)
	return versioned(c, hookVersion, h, err)
}

// tellHook adds to a hook what only the server knows.
func (s *Server) tellHook(h *api.HookStatus) {
	h.Path = s.opts.BasePath + h.Path
	s.refused.addTo(h)
}

func (s *Server) putHook(c *gin.Context) (any, error) {
	var given api.Hook
	ctx, err := asked(c, &given, readHook)
	if err == nil {
		err = s.engine.SetHook(ctx, c.Param("name"), given)
	}
	return s.hookAsSet(c, err)
}

// patchHook changes parts of a hook.
func (s *Server) patchHook(c *gin.Context) (any, error) {
	name := c.Param("name")
	return s.hookAsSet(c, patching[api.Hook]{
		get: func(context.Context) (api.Hook, int64, bool, error) {
			is, version, there := s.engine.HookAsSet(name)
			return is, version, there, nil
		},
		read: readHook,
		set:  func(ctx context.Context, given api.Hook) error { return s.engine.SetHook(ctx, name, given) },
	}.do(c))
}

func readHook(raw []byte, v *api.Hook) error { return misread(json.Unmarshal(raw, v, strict), "") }

// hookAsSet answers a hook after it was set, unless that was refused.
func (s *Server) hookAsSet(c *gin.Context, err error) (any, error) {
	var h api.HookStatus
	if err == nil {
		h, err = s.engine.Hook(c.Request.Context(), c.Param("name"))
	}
	h.Warnings = append(h.Warnings, fromFile(h.DefinedBy == api.SettingByFile)...)
	s.tellHook(&h)
	return versioned(c, hookVersion, h, err)
}

func (s *Server) listDeliveries(c *gin.Context) (any, error) {
	var wrong []job.FieldError
	p := partIn(c, &wrong)
	before := p.number(&wrong)
	if err := job.Wrong("the deliveries were not read", wrong); err != nil {
		return nil, err
	}
	all, err := s.engine.Deliveries(c.Request.Context(), c.Param("name"), before, p.limit+1)
	page, next := cutRest(all, p, func(d *api.Delivery) string { return strconv.FormatInt(d.Number, 10) })
	return struct {
		Deliveries []api.Delivery `json:"deliveries"`
		NextCursor string         `json:"next_cursor,omitzero"`
	}{page, next}, err
}

// sendAgain makes another job of a delivery.
func (s *Server) sendAgain(c *gin.Context) (any, error) {
	number, err := strconv.ParseInt(c.Param("number"), 10, 64)
	if err != nil || number < 1 {
		return nil, job.Fault(job.NotFound, "%q is not the number of a delivery", c.Param("number"))
	}
	ctx, err := readCall(c, &struct{}{}, true, strict)
	if err != nil {
		return nil, err
	}
	told, err := s.engine.SendAgain(ctx, c.Param("name"), number)
	return created{told}, err
}

// deliver takes in a webhook. Whoever sends it shows no token, but what its hook asks for; of what is
// wrong with that the answer tells nothing.
func (s *Server) deliver(c *gin.Context) (any, error) {
	name, r := c.Param("name"), c.Request
	is, _, there := s.engine.HookAsSet(name)
	if !there {
		return nil, job.Fault(job.NotFound, "nothing takes deliveries here")
	}
	raw, reason, err := s.readDelivery(c)
	if reason == "" && is.Proof.Kind == api.ProofNone && !s.opts.OpenHooks && !s.near(r) {
		reason, err = api.RefusedUnproved, errDelivery
	}
	var told api.Received
	if reason == "" {
		told, reason, err = s.takeIn(r.Context(), name, &is, r.Header, raw)
	}
	if reason != "" {
		s.refused.note(s, name, reason, s.opts.Forwarders.originOf(r).from)
	}
	return accepted{told}, err
}

var (
	errDelivery = job.Fault(job.Unauthenticated, "the delivery was refused")
	errSecret   = job.Fault(job.Busy, "the hook cannot take deliveries for now; try again later")
)

// readDelivery reads the body of a delivery, or says why it is refused.
func (s *Server) readDelivery(c *gin.Context) (raw []byte, reason string, err error) {
	if coding := c.GetHeader("Content-Encoding"); coding != "" && !strings.EqualFold(coding, "identity") {
		return nil, api.RefusedEncoding, job.Fault(job.WrongMediaType, "the Content-Encoding %q is not read here; send the body as it is", coding)
	}
	most := int64(s.engine.MaxPayload())
	tooLarge := job.Fault(job.TooLarge, "the body is larger than %d bytes", most)
	if c.Request.ContentLength > most {
		return nil, api.RefusedTooLarge, tooLarge
	}
	raw, err = io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, most))
	var large *http.MaxBytesError
	switch {
	case errors.As(err, &large):
		return nil, api.RefusedTooLarge, tooLarge
	case err != nil:
		return nil, api.RefusedBusy, unread(err)
	}
	return raw, "", nil
}

// takeIn takes in a delivery whose headers and body are known, or says why it is refused.
func (s *Server) takeIn(ctx context.Context, name string, is *api.Hook, h http.Header, raw []byte) (told api.Received, reason string, err error) {
	p := is.WithDefaults().Proof
	secrets := make([][]byte, len(p.Secrets))
	for i, secret := range p.Secrets {
		if s.opts.Secrets == nil {
			return told, api.RefusedSecret, errSecret
		}
		if secrets[i], err = s.opts.Secrets.OfHook(secret, name); err != nil {
			return told, api.RefusedSecret, errSecret
		}
	}
	arrived := engine.Arrived{MediaType: h.Get("Content-Type"), Body: raw, Header: func(name string) string { return strings.Join(h.Values(name), ", ") }}
	if reason = proof.Check(p, secrets, h, arrived.ID(is), raw, time.Now()); reason != "" {
		return told, reason, errDelivery
	}
	told, err = s.engine.Receive(ctx, name, arrived)
	var known *job.Problem
	switch {
	case err == nil:
	case errors.As(err, &known) && known.Kind == job.TooLarge:
		reason = api.RefusedTooLarge
	default:
		reason = api.RefusedBusy
	}
	return told, reason, err
}

// near tells whether a request comes from this machine, and not through a proxy that others may reach.
func (s *Server) near(r *http.Request) bool {
	if bySocket(r) {
		return !s.opts.Forwarders.Unix
	}
	at, known := addressOf(s.opts.Forwarders.originOf(r).from)
	passedOn := r.Header.Get("X-Forwarded-For") != "" || r.Header.Get("Forwarded") != ""
	return known && at.IsLoopback() && loopback(r.Host) && (!passedOn || s.opts.Forwarders.trusts(r.RemoteAddr))
}

// testHook signs a body as a sender would, and delivers it.
func (s *Server) testHook(c *gin.Context) (any, error) {
	name := c.Param("name")
	if _, err := s.engine.Hook(c.Request.Context(), name); err != nil {
		return nil, err
	}
	is, _, _ := s.engine.HookAsSet(name)
	raw, _, err := s.readDelivery(c)
	if err != nil {
		return nil, err
	}
	whole := is.WithDefaults()
	h := http.Header{}
	for _, name := range append([]string{"Content-Type"}, is.KeepHeaders...) {
		if value := c.GetHeader(name); value != "" {
			h.Set(name, value)
		}
	}
	id := "test-" + cmp.Or(c.GetHeader("Idempotency-Key"), strings.ToLower(rand.Text())) // the same call is the same delivery
	if t := whole.IDFrom; t != nil && t.Header != "" {
		h.Set(t.Header, id)
	} else if t != nil {
		id = (&engine.Arrived{Body: raw, Header: h.Get}).ID(&is)
	}
	if len(whole.Proof.Secrets) > 0 {
		if s.opts.Secrets == nil {
			return nil, errSecret
		}
		secret, err := s.opts.Secrets.OfHook(whole.Proof.Secrets[0], name)
		if err != nil {
			return nil, job.Fault(job.WrongState, "the delivery cannot be signed: %v", err)
		}
		proof.Sign(whole.Proof, secret, h, id, raw, time.Now())
	}
	told, _, err := s.takeIn(c.Request.Context(), name, &is, h, raw)
	return accepted{told}, err
}

// refusals counts deliveries that were refused until they are written: whoever is refused must not be able
// to have the disk written as often.
type refusals struct {
	mu  sync.Mutex
	all map[string]*api.HookCounts
}

const (
	refusalsEvery = time.Second
	// mostRefusals is how many of them are told one by one.
	mostRefusals = 20
)

// note counts a refusal, and has it written soon.
func (n *refusals) note(s *Server, hook, reason, from string) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.all == nil {
		n.all = map[string]*api.HookCounts{}
		time.AfterFunc(refusalsEvery, func() { n.write(s) })
	}
	if n.all[hook] == nil {
		n.all[hook] = &api.HookCounts{Refused: map[string]int64{}}
	}
	of := n.all[hook]
	of.Refused[reason]++
	of.Refusals = append([]api.HookRefusal{{At: job.At(time.Now()), Reason: reason, From: from}}, of.Refusals[:min(len(of.Refusals), mostRefusals-1)]...)
}

// write has all that was counted written.
func (n *refusals) write(s *Server) {
	n.mu.Lock()
	all := n.all
	n.all = nil
	n.mu.Unlock()
	if len(all) == 0 {
		return
	}
	if err := s.engine.NoteRefusals(context.Background(), all); err != nil {
		s.log.Warn("refused deliveries could not be counted", "error", err)
	}
}

// addTo adds to a hook what is not written yet.
func (n *refusals) addTo(h *api.HookStatus) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if of := n.all[h.Name]; of != nil {
		h.Counts = h.Counts.With(of)
	}
}
