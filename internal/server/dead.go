package server

import (
	"context"
	stdjson "encoding/json"
	"fmt"
	"strconv"

	"github.com/gin-gonic/gin"

	"humblemule.example/api"
	"humblemule.example/job"
)

// listCauses lists what jobs died of, or fail of while they are tried again.
func (s *Server) listCauses(c *gin.Context) (any, error) {
	f := api.CauseFilter{Queue: c.Query("queue"), Task: c.Query("task"), Error: c.Query("error")}
	var wrong []job.FieldError
	switch state := c.DefaultQuery("state", job.Dead.String()); state {
	case job.Dead.String():
		f.State = job.Dead
	case job.Backoff.String():
		f.State = job.Backoff
	default:
		wrong = append(wrong, job.FieldError{Field: "state", Message: fmt.Sprintf("%q has no causes; it is dead or backoff", state)})
	}
	if err := job.Wrong("the causes were not read", wrong); err != nil {
		return nil, err
	}
	all, err := s.engine.Causes(c.Request.Context(), f)
	if err != nil {
		return nil, err
	}
	// The trends of the first ones are told; a page has no room for more.
	const most = 100
	for i := range min(len(all), most) {
		if all[i].Hours, err = s.engine.CauseTrend(c.Request.Context(), all[i].ID); err != nil {
			return nil, err
		}
	}
	return struct {
		Causes []api.Cause `json:"causes"`
	}{all}, nil
}

// getCause tells about one cause, of its dead jobs.
func (s *Server) getCause(c *gin.Context) (any, error) {
	id, err := pathID(c)
	if err != nil {
		return nil, err
	}
	told, err := s.engine.Cause(c.Request.Context(), id)
	if err != nil {
		return nil, err
	}
	return told, s.engine.CauseHistory(c.Request.Context(), &told)
}

// actOnMany applies an action to many jobs.
func (s *Server) actOnMany(c *gin.Context) (any, error) {
	var req api.ActRequest
	raw, err := read(c, &req, false, strict)
	if err == nil && req.Patch != nil {
		_, err = readPatch(req.Patch) // in the words that PATCH has
	}
	if err != nil {
		return nil, err
	}
	return s.operate(c, raw, req)
}

// purgeQueue removes what waits in a queue.
func (s *Server) purgeQueue(c *gin.Context) (any, error) {
	var b struct {
		States []job.State `json:"state"`
		Tasks  []string    `json:"task"`
		DryRun bool        `json:"dry_run"`
		Note   string      `json:"note"`
	}
	raw, err := read(c, &b, true, strict)
	if err != nil {
		return nil, err
	}
	if _, err := s.getQueue(c); err != nil {
		return nil, err
	}
	return s.operate(c, raw, api.ActRequest{
		Action: api.ActPurge, Filter: &api.Selection{Queues: []string{c.Param("name")}, States: b.States, Tasks: b.Tasks}, DryRun: b.DryRun, Note: b.Note,
	})
}

// operate starts an action on many jobs.
func (s *Server) operate(c *gin.Context, raw []byte, req api.ActRequest) (any, error) {
	ctx, err := asCall(c, raw)
	if err != nil {
		return nil, err
	}
	told, err := s.engine.Act(ctx, req)
	if err == nil && !told.Over() {
		return accepted{told}, nil
	}
	return told, err
}

// recovery is a requeue of dead letters, a few of them first.
type recovery struct {
	ID       int64   `json:"id"`
	State    string  `json:"state"`
	Matched  int64   `json:"matched"`
	TrialIDs []int64 `json:"trial_ids"`
	// Released is how many were requeued in all.
	Released     int64          `json:"released"`
	RefusedCount int64          `json:"refused_count"`
	Refused      []api.Refused  `json:"refused"`
	Why          string         `json:"why,omitzero"`
	By           string         `json:"by"`
	BeganAt      job.Time       `json:"began_at"`
	EndedAt      job.Time       `json:"ended_at,omitzero"`
	Filter       *api.Selection `json:"filter,omitzero"`
	Trial        int            `json:"trial"`
	PerSecond    float64        `json:"per_second,omitzero"`
}

func recoveryOf(o api.Operation) recovery {
	r := recovery{
		ID: o.ID, State: o.State, Matched: o.Matched, TrialIDs: append([]int64{}, o.TrialIDs...), Released: o.Changed, RefusedCount: o.RefusedCount, Refused: o.Refused,
		Why: o.Why, By: o.By, BeganAt: o.BeganAt, EndedAt: o.EndedAt, Filter: o.Filter, Trial: o.Trial, PerSecond: o.PerSecond,
	}
	if r.State == api.OpRunning {
		r.State = "releasing"
	}
	return r
}

// recover requeues dead letters: first a few, and the rest only when these are done.
func (s *Server) recover(c *gin.Context) (any, error) {
	var b struct {
		Filter       *api.Selection     `json:"filter"`
		IDs          []int64            `json:"ids"`
		Trial        *int               `json:"trial"`
		PayloadPatch stdjson.RawMessage `json:"payload_patch"`
		PerSecond    float64            `json:"per_second"`
		Note         string             `json:"note"`
	}
	raw, err := read(c, &b, false, strict)
	if err != nil {
		return nil, err
	}
	ctx, err := asCall(c, raw)
	if err != nil {
		return nil, err
	}
	req := api.ActRequest{Action: api.ActRequeue, Filter: b.Filter, IDs: b.IDs, Trial: 1, PayloadPatch: b.PayloadPatch, PerSecond: b.PerSecond, Note: b.Note}
	if b.Trial != nil {
		req.Trial = *b.Trial
	}
	o, err := s.engine.Act(ctx, req)
	if err != nil {
		return nil, err
	}
	return accepted{recoveryOf(o)}, nil
}

func (s *Server) listRecoveries(c *gin.Context) (any, error) {
	all, err := s.engine.Operations(c.Request.Context())
	told := []recovery{}
	for _, o := range all {
		if o.Action == api.ActRequeue {
			told = append(told, recoveryOf(o))
		}
	}
	return struct {
		Recoveries []recovery `json:"recoveries"`
	}{told}, err
}

func (s *Server) listOperations(c *gin.Context) (any, error) {
	all, err := s.engine.Operations(c.Request.Context())
	return struct {
		Operations []api.Operation `json:"operations"`
	}{all}, err
}

// operation makes a route of what is done with an operation.
func (s *Server) operation(do func(ctx context.Context, id int64) (api.Operation, error), tell func(api.Operation) any) func(c *gin.Context) (any, error) {
	return func(c *gin.Context) (any, error) {
		id, err := pathID(c)
		if err != nil {
			return nil, err
		}
		ctx, err := asCall(c, nil)
		if err != nil {
			return nil, err
		}
		o, err := do(ctx, id)
		if err != nil {
			return nil, err
		}
		return tell(o), nil
	}
}

// recoveries does something with an operation that is a recovery, and with no other.
func (s *Server) recoveries(do func(context.Context, int64) (api.Operation, error)) func(context.Context, int64) (api.Operation, error) {
	return func(ctx context.Context, id int64) (api.Operation, error) {
		if o, err := s.engine.Operation(ctx, id); err != nil {
			return o, err
		} else if o.Action != api.ActRequeue {
			return o, job.Fault(job.NotFound, "operation %d is no recovery: it is to %s jobs; see /v1/operations/%d", id, o.Action, id)
		}
		return do(ctx, id)
	}
}

func asOperation(o api.Operation) any { return o }

func asRecovery(o api.Operation) any { return recoveryOf(o) }

// listActions tells what operators did.
func (s *Server) listActions(c *gin.Context) (any, error) {
	var wrong []job.FieldError
	number := func(name string, otherwise, most int64) int64 { return numberIn(c, &wrong, name, otherwise, most) }
	before, id, limit := number("before", 0, 1<<53), number("job", 0, 1<<53), number("limit", api.DefaultPage, api.MaxPage)
	if err := job.Wrong("the actions were not read", wrong); err != nil {
		return nil, err
	}
	all, err := s.engine.Actions(c.Request.Context(), before, id, int(limit))
	return struct {
		Actions []api.Action `json:"actions"`
	}{append([]api.Action{}, all...)}, err
}

// numberIn reads a number from 1 to most of a query; otherwise where it is not given.
func numberIn(c *gin.Context, wrong *[]job.FieldError, name string, otherwise, most int64) int64 {
	text := c.Query(name)
	if text == "" {
		return otherwise
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 1 || n > most {
		*wrong = append(*wrong, job.FieldError{Field: name, Message: fmt.Sprintf("%q is outside 1 to %d", text, most)})
	}
	return n
}
