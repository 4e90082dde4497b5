package server

import (
	"context"
	"fmt"
	"net/http"
	"slices"

	"github.com/gin-gonic/gin"
	"github.com/go-json-experiment/json/jsontext"

	"humblemule/core/job"
)

// unknown gathers fields that this version does not know. What pools send is
// read leniently, so that a newer pool can work with an older service; what was
// passed over is told in `ignored`.
type unknown map[string]jsontext.Value

type settleItem struct {
	job.Settlement
	// Enqueue is read strictly, by itself: a wrong follow-up refuses its item
	// and no other.
	Enqueue []jsontext.Value `json:"enqueue"`
	Unknown unknown          `json:",embed"`
}

type leaseBody struct {
	job.LeaseRequest
	Settle  []settleItem `json:"settle"`
	Unknown unknown      `json:",embed"`
}

type settleBody struct {
	Leases  []settleItem `json:"leases"`
	Unknown unknown      `json:",embed"`
}

type extendItem struct {
	job.Extension
	Unknown unknown `json:",embed"`
}

type extendBody struct {
	Leases  []extendItem `json:"leases"`
	Unknown unknown      `json:",embed"`
}

// ignored gathers names of fields that were passed over, each once, in order.
type ignored []string

func (g *ignored) add(u unknown, prefix string) {
	for name := range u {
		if full := prefix + name; !slices.Contains(*g, full) {
			*g = append(*g, full)
		}
	}
	slices.Sort(*g)
}

// settlements reads the items of a settle, noting what is wrong with each.
func settlements(items []settleItem, prefix string, ign *ignored) []job.Settlement {
	all := make([]job.Settlement, len(items))
	for i, item := range items {
		ign.add(item.Unknown, prefix)
		all[i] = item.Settlement
		for k, raw := range item.Enqueue {
			var spec job.Spec
			err := readSpec(raw, &spec, fmt.Sprintf("enqueue[%d].", k))
			if p, wrong := err.(*job.Problem); wrong {
				all[i].Misread = append(all[i].Misread, p.Fields...)
			}
			all[i].Enqueue = append(all[i].Enqueue, spec)
		}
	}
	return all
}

func (s *Server) lease(c *gin.Context) {
	var b leaseBody
	raw, err := read(c, &b, in, false)
	if err != nil {
		s.fail(c, err)
		return
	}
	ctx, err := asCall(c, raw)
	if err != nil {
		s.fail(c, err)
		return
	}
	var ign ignored
	ign.add(b.Unknown, "")
	b.LeaseRequest.Settle = settlements(b.Settle, "settle.", &ign)
	answer, err := s.engine.Lease(ctx, b.LeaseRequest)
	if err != nil {
		s.fail(c, err)
		return
	}
	answer.Ignored = ign
	s.answerLeases(c, answer)
}

// answerLeases writes a lease answer. What cannot be written is given back,
// uncounted, so that no job waits for the end of a lease that nobody knows of.
func (s *Server) answerLeases(c *gin.Context, answer job.LeaseAnswer) {
	gone := c.Request.Context().Err()
	if gone == nil {
		s.answer(c, http.StatusOK, answer)
		if len(answer.Leases) == 0 {
			return
		}
		gone = http.NewResponseController(c.Writer).Flush()
	}
	if gone == nil || len(answer.Leases) == 0 {
		return
	}
	back := make([]job.Settlement, len(answer.Leases))
	for i, l := range answer.Leases {
		back[i] = job.Settlement{Token: l.Token, Outcome: job.OutcomeReleased}
	}
	s.log.Info("a worker was gone before it had its leases; they are given back", "jobs", len(back), "error", gone)
	if _, err := s.engine.Settle(context.WithoutCancel(c.Request.Context()), back); err != nil {
		s.log.Warn("the leases could not be given back; they end by themselves", "error", err)
	}
}

func (s *Server) extend(c *gin.Context) (any, error) {
	var b extendBody
	raw, err := read(c, &b, in, false)
	if err != nil {
		return nil, err
	}
	ctx, err := asCall(c, raw)
	if err != nil {
		return nil, err
	}
	var ign ignored
	ign.add(b.Unknown, "")
	items := make([]job.Extension, len(b.Leases))
	for i, item := range b.Leases {
		ign.add(item.Unknown, "leases.")
		items[i] = item.Extension
	}
	answer, err := s.engine.Extend(ctx, items)
	if err != nil {
		return nil, err
	}
	answer.Ignored = ign
	return answer, nil
}

func (s *Server) settle(c *gin.Context) (any, error) {
	var b settleBody
	if _, err := read(c, &b, in, false); err != nil {
		return nil, err
	}
	var ign ignored
	ign.add(b.Unknown, "")
	results, err := s.engine.Settle(c.Request.Context(), settlements(b.Leases, "leases.", &ign))
	if err != nil {
		return nil, err
	}
	return struct {
		Results []job.SettleResult `json:"results"`
		Ignored []string           `json:"ignored,omitempty"`
	}{results, ign}, nil
}

type workerBody struct {
	job.Worker
	Unknown unknown `json:",embed"`
}

func (s *Server) putWorker(c *gin.Context) (any, error) {
	var b workerBody
	if _, err := read(c, &b, in, false); err != nil {
		return nil, err
	}
	b.Worker.ID = c.Param("id")
	ctx, err := asCall(c, nil)
	if err != nil {
		return nil, err
	}
	wanted, err := s.engine.PutWorker(ctx, b.Worker)
	if err != nil {
		return nil, err
	}
	var ign ignored
	ign.add(b.Unknown, "")
	return struct {
		job.Wanted
		Ignored []string `json:"ignored,omitempty"`
	}{wanted, ign}, nil
}

func (s *Server) listWorkers(c *gin.Context) (any, error) {
	all, err := s.engine.Workers(c.Request.Context())
	if err != nil {
		return nil, err
	}
	return struct {
		Workers []job.Worker `json:"workers"`
	}{all}, nil
}

func (s *Server) getWorker(c *gin.Context) (any, error) {
	return s.engine.Worker(c.Request.Context(), c.Param("id"))
}

func (s *Server) wanted(c *gin.Context) (any, error) {
	wait, err := readWait(c)
	if err != nil {
		return nil, err
	}
	doing := job.Want(c.DefaultQuery("doing", string(job.WantRun)))
	if doing != job.WantRun && doing != job.WantDrain && doing != job.WantLeave {
		return nil, job.Wrong("nothing was waited for", []job.FieldError{{Field: "doing", Message: "is what the worker does by now: run, drain or leave"}})
	}
	ctx, err := asCall(c, nil)
	if err != nil {
		return nil, err
	}
	return s.engine.Wanted(ctx, c.Param("id"), doing, wait.Go())
}

// deleteWorker takes a worker whose process has ended off the list.
func (s *Server) deleteWorker(c *gin.Context) (any, error) {
	ctx, err := asCall(c, nil)
	if err != nil {
		return nil, err
	}
	return struct{}{}, s.engine.DeleteWorker(ctx, c.Param("id"))
}

// askWorker asks a worker to run, to drain or to leave.
func (s *Server) askWorker(want job.Want) func(c *gin.Context) (any, error) {
	return func(c *gin.Context) (any, error) {
		ctx, err := s.emptyCall(c)
		if err != nil {
			return nil, err
		}
		return s.engine.AskWorker(ctx, c.Param("id"), want)
	}
}

// emptyCall reads the body of an action that takes none, or {}.
func (s *Server) emptyCall(c *gin.Context) (context.Context, error) {
	raw, err := read(c, &struct{}{}, strict, true)
	if err != nil {
		return nil, err
	}
	return asCall(c, raw)
}
