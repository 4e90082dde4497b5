package server

import (
	"context"
	stdjson "encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"reflect"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"
	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"humblemule.example/api"
	"humblemule.example/internal/check"
	"humblemule.example/job"
)

// unknown gathers fields that this version does not know. What pools send is
// read leniently, so that a newer pool can work with an older service; what was
// passed over is told in `ignored`.
type unknown map[string]jsontext.Value

// items are read one by one, and each field of one by itself: what is wrong with one
// harms no other.
type items []jsontext.Value

type leaseBody struct {
	api.LeaseRequest
	Settle  items   `json:"settle"`
	Unknown unknown `json:",embed"`
}

type settleBody struct {
	Leases  items   `json:"leases"`
	Unknown unknown `json:",embed"`
}

type extendBody struct {
	Worker  string  `json:"worker"`
	Leases  items   `json:"leases"`
	Unknown unknown `json:",embed"`
}

// lenient reads bodies of leases. What an item holds may be anything that is JSON at all.
var lenient = json.JoinOptions(jsontext.AllowInvalidUTF8(true), jsontext.AllowDuplicateNames(true))

// fields reads an item field by field: those that are named into what they point to,
// noting what cannot be read, and the others as unknown.
func (raw items) fields(i int, known map[string]any, prefix string, ign *ignored) (wrong []job.FieldError) {
	var all unknown
	if err := json.Unmarshal(raw[i], &all, lenient); err != nil {
		return []job.FieldError{{Field: "token", Message: "is missing: the item is not an object"}}
	}
	for _, name := range slices.Sorted(maps.Keys(all)) {
		into, is := known[name]
		if !is {
			continue
		}
		err := misread(json.Unmarshal(all[name], into), "")
		if err != nil {
			reflect.ValueOf(into).Elem().SetZero() // not half of it
		}
		var p *job.Problem
		if errors.As(err, &p) && len(p.Fields) > 0 {
			for _, f := range p.Fields {
				if f.Field = name + "." + f.Field; f.Field == name+".body" {
					f.Field = name
				}
				f.Field = strings.Replace(f.Field, ".[", "[", 1)
				wrong = append(wrong, f)
			}
		} else if err != nil {
			wrong = append(wrong, job.FieldError{Field: name, Message: "cannot be read: it is not valid JSON that is kept here"})
		}
		delete(all, name)
	}
	for name := range known {
		delete(all, name)
	}
	ign.add(all, prefix)
	return wrong
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

// reportFields are where the fields of a report are read into.
func reportFields(r *api.Report) map[string]any {
	return map[string]any{"progress": &r.Progress, "log": &r.Log, "log_from": &r.LogFrom, "labels": &r.Labels}
}

// settleItem and extendItem are items in which nothing is wrong, as in almost all: they are
// read at once, which costs a third of reading field by field.
type settleItem struct {
	api.Settlement
	Result  jsontext.Value `json:"result"`
	Enqueue items          `json:"enqueue"`
	Unknown unknown        `json:",embed"`
}

type extendItem struct {
	api.Extension
	Unknown unknown `json:",embed"`
}

// settlements reads the items of a settle, noting what is wrong with each.
func settlements(raw items, prefix string, ign *ignored) []api.Settlement {
	all := make([]api.Settlement, len(raw))
	for i := range raw {
		var item settleItem
		if json.Unmarshal(raw[i], &item) == nil {
			ign.add(item.Unknown, prefix)
		} else {
			item = raw.settlement(i, prefix, ign)
		}
		s := &all[i]
		if *s = item.Settlement; item.Result != nil {
			s.Result = stdjson.RawMessage(item.Result)
		}
		readFollowUps(s, item.Enqueue)
	}
	return all
}

// settlement reads an item in which something is wrong, field by field.
func (raw items) settlement(i int, prefix string, ign *ignored) (item settleItem) {
	s := &item.Settlement
	known := reportFields(&s.Report)
	maps.Copy(known, map[string]any{
		"token": &s.Token, "outcome": &s.Outcome, "result": &item.Result, "error": &s.Error, "delay": &s.Delay,
		"reason_text": &s.ReasonText, "run_ms": &s.RunMS, "enqueue": &item.Enqueue,
	})
	for _, f := range raw.fields(i, known, prefix, ign) {
		switch field, _, _ := strings.Cut(f.Field, "."); field {
		case "token", "outcome":
			s.BadOutcome = append(s.BadOutcome, f)
		case "enqueue":
			s.BadEnqueue = append(s.BadEnqueue, f)
		case "result":
			s.Result = api.DropResult(len(raw[i]), f.Message)
			s.Misread = append(s.Misread, f)
		default:
			s.Misread = append(s.Misread, f)
		}
	}
	return item
}

// readFollowUps reads the specs of a settlement strictly, one by one, and keeps them as
// they came where any of them cannot be read.
func readFollowUps(s *api.Settlement, enqueue items) {
	for k, raw := range enqueue {
		var f api.FollowUp
		var p *job.Problem
		at := fmt.Sprintf("enqueue[%d].", k)
		switch err := readInto(raw, &f, &f.Spec, at); {
		case errors.As(err, &p) && len(p.Fields) > 0:
			s.BadEnqueue = append(s.BadEnqueue, p.Fields...)
		case err != nil:
			s.BadEnqueue = append(s.BadEnqueue, job.FieldError{Field: fmt.Sprintf("enqueue[%d]", k), Message: "is not a spec of a job"})
		}
		s.Enqueue = append(s.Enqueue, f)
		s.RawEnqueue = append(s.RawEnqueue, keepable(raw))
	}
}

// keepable is a value as it came or, where it cannot be told on as it is, as a string.
func keepable(raw jsontext.Value) stdjson.RawMessage {
	if check.JSONFault(raw) == "" {
		return stdjson.RawMessage(raw)
	}
	text, err := stdjson.Marshal(strings.ToValidUTF8(string(raw), "\uFFFD"))
	if err != nil {
		panic(err) // a string is always JSON
	}
	return text
}

func (s *Server) lease(c *gin.Context) {
	var b leaseBody
	raw, err := read(c, &b, false, lenient)
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
func (s *Server) answerLeases(c *gin.Context, answer api.LeaseAnswer) {
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
	back := make([]api.Settlement, len(answer.Leases))
	for i, l := range answer.Leases {
		back[i] = api.Settlement{Token: l.Token, Outcome: job.OutcomeReleased}
	}
	s.log.Info("a worker was gone before it had its leases; they are given back", "jobs", len(back), "error", gone)
	if _, err := s.engine.Settle(context.WithoutCancel(c.Request.Context()), back); err != nil {
		s.log.Warn("the leases could not be given back; they end by themselves", "error", err)
	}
}

func (s *Server) extend(c *gin.Context) (any, error) {
	var b extendBody
	ctx, err := readCall(c, &b, false, lenient)
	if err != nil {
		return nil, err
	}
	var ign ignored
	ign.add(b.Unknown, "")
	req := api.ExtendRequest{Worker: b.Worker, Leases: make([]api.Extension, len(b.Leases))}
	for i := range b.Leases {
		x := &req.Leases[i]
		var item extendItem
		if json.Unmarshal(b.Leases[i], &item) == nil {
			*x = item.Extension
			ign.add(item.Unknown, "leases.")
			continue
		}
		known := reportFields(&x.Report)
		known["token"], known["steps"] = &x.Token, &x.Steps
		x.Misread = b.Leases.fields(i, known, "leases.", &ign)
	}
	answer, err := s.engine.Extend(ctx, req)
	if err != nil {
		return nil, err
	}
	answer.Ignored = ign
	return answer, nil
}

func (s *Server) settle(c *gin.Context) (any, error) {
	var b settleBody
	if _, err := read(c, &b, false, lenient); err != nil {
		return nil, err
	}
	var ign ignored
	ign.add(b.Unknown, "")
	results, err := s.engine.Settle(c.Request.Context(), settlements(b.Leases, "leases.", &ign))
	if err != nil {
		return nil, err
	}
	return settleAnswer{results, ign}, nil
}

type settleAnswer struct {
	Results []api.SettleResult `json:"results"`
	Ignored []string           `json:"ignored,omitempty"`
}

type workerBody struct {
	api.Worker
	Unknown unknown `json:",embed"`
}

func (s *Server) putWorker(c *gin.Context) (any, error) {
	var b workerBody
	if _, err := read(c, &b, false); err != nil {
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
		api.Wanted
		Ignored []string `json:"ignored,omitempty"`
	}{wanted, ign}, nil
}

func (s *Server) listWorkers(c *gin.Context) (any, error) {
	p, err := partOf(c)
	if err != nil {
		return nil, err
	}
	all := s.engine.Workers(c.Request.Context())
	var total workersTotal
	for i := range all {
		total.add(&all[i])
	}
	page, next, err := cut(all, p, func(w *api.Worker) string { return w.ID })
	return struct {
		Workers    []api.Worker `json:"workers"`
		Total      workersTotal `json:"total"`
		NextCursor string       `json:"next_cursor,omitzero"`
	}{page, total, next}, err
}

// workersTotal counts all workers of a list, and the slots of those that are not silent.
type workersTotal struct {
	Workers int `json:"workers"`
	Silent  int `json:"silent"`
	Slots   int `json:"slots"`
	Running int `json:"running"`
}

func (t *workersTotal) add(w *api.Worker) {
	t.Workers++
	if w.Silent {
		t.Silent++
		return
	}
	t.Slots += w.Slots
	t.Running += w.Running
}

func (s *Server) slowJobs(c *gin.Context) (any, error) {
	return s.engine.SlowJobs(c.Request.Context()), nil
}

func (s *Server) getWorker(c *gin.Context) (any, error) {
	return s.engine.Worker(c.Request.Context(), c.Param("id"))
}

func (s *Server) wanted(c *gin.Context) (any, error) {
	wait, err := readWait(c)
	if err != nil {
		return nil, err
	}
	doing := api.Want(c.DefaultQuery("doing", string(api.WantRun)))
	if doing != api.WantRun && doing != api.WantDrain && doing != api.WantLeave {
		return nil, job.Wrong("nothing was waited for", []job.FieldError{{Field: "doing", Message: "is what the worker is doing: run, drain or leave"}})
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
	if callerOf(c).Role.operates() {
		return deleted{}, s.engine.DeleteAnyWorker(ctx, c.Param("id"))
	}
	return deleted{}, s.engine.DeleteWorker(ctx, c.Param("id"))
}

// askWorker asks a worker to run, to drain or to leave.
func (s *Server) askWorker(want api.Want) func(c *gin.Context) (any, error) {
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
	raw, err := read(c, &struct{}{}, true, strict)
	if err != nil {
		return nil, err
	}
	return asCall(c, raw)
}

// endLease ends the lease of a running job, which is placed again.
func (s *Server) endLease(c *gin.Context) (any, error) {
	var b api.EndLease
	return s.act(c, &b, func(ctx context.Context, id int64) (job.Job, error) { return s.engine.EndLease(ctx, id, b.FreeLane) })
}

// acceptJob makes a job done whose outcome was refused, with the follow-ups given.
func (s *Server) acceptJob(c *gin.Context) (any, error) {
	var b struct {
		Enqueue []jsontext.Value `json:"enqueue"`
	}
	return s.act(c, &b, func(ctx context.Context, id int64) (job.Job, error) {
		all := make([]api.FollowUp, len(b.Enqueue))
		for i, raw := range b.Enqueue {
			if err := readInto(raw, &all[i], &all[i].Spec, fmt.Sprintf("enqueue[%d].", i)); err != nil {
				return job.Job{}, err
			}
		}
		return s.engine.Accept(ctx, id, all)
	})
}
