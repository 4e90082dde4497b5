package job

import (
	"bytes"
	"encoding/json"
	"fmt"
	"regexp"
	"sort"

	"humblemule.example/internal/check"
	"humblemule.example/internal/text"
)

// What a spec may hold; a service may be set up with a larger payload.
const (
	DefaultQueue       = "common"
	DefaultPriority    = 4
	MaxPriority        = 9
	DefaultMaxAttempts = 17
	MaxAttemptLimit    = 1_000_000
	MaxPayloadBytes    = 128 << 10
	MaxLabels          = 20
	MaxLabelName       = 64
	MaxLabelValue      = 200
	MaxWordBytes       = 200 // owner, lane, key
	MaxSpecs           = 10_000
)

// Spec is what a producer asks for: one task, once, with a payload.
type Spec struct {
	// Task is the name of what is to be done: [a-z0-9][a-z0-9._-]{0,127}.
	Task string `json:"task"`
	// Payload is any value that JSON can hold, at most 128 KiB unless the service is set up
	// otherwise; its bytes are kept as they are. See [New] and [JSON].
	Payload json.RawMessage `json:"payload,omitzero"`
	// Queue is where the job waits; empty means common.
	Queue string `json:"queue,omitzero"`
	// Priority is 0 to 9, higher first; nil means 4.
	Priority *int `json:"priority,omitzero"`
	// RunAt is the time before which the job must not start. Give RunAt or
	// Delay, not both.
	RunAt Time `json:"run_at,omitzero"`
	// StartBy is the time by which the first attempt must have begun; else the job is
	// skipped as too late. A requeue drops it.
	StartBy Time `json:"start_by,omitzero"`
	// Delay counts from the moment the service takes the job in.
	Delay Duration `json:"delay,omitzero"`
	// MaxAttempts bounds the counted attempts of a round: 1 to 1 000 000, or
	// 0 for no limit; nil means 17.
	MaxAttempts *int `json:"max_attempts,omitzero"`
	// Retry says how long to wait between attempts; nil means the default.
	Retry *Retry `json:"retry,omitzero"`
	// Timeout bounds one attempt; zero means none.
	Timeout Duration `json:"timeout,omitzero"`
	// Owner is whom the job is for, at most 200 bytes.
	Owner string `json:"owner,omitzero"`
	// Lane names jobs of a queue that run one at a time, in their order, at most 200
	// bytes.
	Lane string `json:"lane,omitzero"`
	// Labels are at most 20 pairs, names to 64 and values to 200 bytes.
	Labels map[string]string `json:"labels,omitzero"`
	// Key is a name of the producer's own by which the job is found, at most
	// 200 bytes. Keys need not be unique.
	Key string `json:"key,omitzero"`
	// Dedupe says when an earlier job of the task with the same key answers in place
	// of a new one: unstarted (while it is unfinished and no attempt of its round has
	// begun), unfinished, or a duration to 30d since it was enqueued, whatever became of it
	// but dead or cancelled. Empty means never.
	Dedupe string `json:"dedupe,omitzero"`
	// KeepResult is how long the result is kept after the job is done; nil
	// means as long as the job, zero not at all.
	KeepResult *Duration `json:"keep_result,omitzero"`
	// Traceparent is a W3C Trace Context header, handed to the worker.
	Traceparent string `json:"traceparent,omitzero"`
	// After names jobs that this one waits for; nil where it waits for none.
	After *After `json:"after,omitzero"`
	// Call is a request that the service itself makes as the job, in the place of a worker; nil where a
	// worker does it. It goes with tasks that make calls, and without a payload.
	Call *Call `json:"call,omitzero"`
	// Notify are those who are told when the job ends; nil where its task says it.
	Notify []Notify `json:"notify,omitzero"`
}

// New gives a spec of a task with a payload. The error says why JSON cannot hold the payload.
func New[P any](task string, payload P) (Spec, error) {
	raw, err := marshal(payload)
	if err != nil {
		return Spec{}, Wrong("the spec cannot be made", []FieldError{{Field: "payload", Message: "cannot be written as JSON: " + err.Error()}})
	}
	return Spec{Task: task, Payload: raw}, nil
}

// JSON writes a value that JSON can always hold, such as one of numbers, texts and lists of
// them; it panics where JSON cannot. [New] is for all others.
func JSON(v any) json.RawMessage {
	raw, err := marshal(v)
	if err != nil {
		panic(fmt.Sprintf("a payload of type %T: %v", v, err))
	}
	return raw
}

// marshal writes a value as JSON, in which nothing is escaped that needs no escape.
func marshal(v any) (json.RawMessage, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	err := e.Encode(v)
	return bytes.TrimSuffix(b.Bytes(), []byte("\n")), err
}

var traceparentForm = regexp.MustCompile(`^[0-9a-f]{2}-[0-9a-f]{32}-[0-9a-f]{16}-[0-9a-f]{2}$`)

// The words of a dedupe.
const (
	Unstarted  = "unstarted"
	Unfinished = "unfinished"
	// MaxDedupe bounds the duration of a dedupe.
	MaxDedupe = Duration(30 * day)
)

func checkDedupe(c *check.List, s *Spec) {
	switch {
	case s.Dedupe == "":
		return
	case s.Key == "":
		c.Add("dedupe", "needs a key by which an earlier job is found")
	}
	if s.Dedupe == Unstarted || s.Dedupe == Unfinished {
		return
	}
	if d, err := ParseDuration(s.Dedupe); err != nil || d <= 0 || d > MaxDedupe {
		c.Add("dedupe", "%q is neither unstarted, unfinished, nor a duration such as 24h, to 30d", text.Shorten(s.Dedupe))
	}
}

// Check answers what is wrong with the spec, a line per field; nil where
// nothing is. maxPayload is the largest payload in bytes of JSON.
func (s *Spec) Check(maxPayload int) []FieldError {
	var c check.List
	if s.Task == "" {
		c.Add("task", "is missing; name what is to be done, such as tide.predict")
	} else if c.Name("task", s.Task); IsOwn(s.Task) {
		c.Add("task", "begins with %s, as those of the service itself do; give it another name", OwnPrefix)
	}
	if s.Queue != "" {
		c.Name("queue", s.Queue)
	}
	if s.Priority != nil && (*s.Priority < 0 || *s.Priority > MaxPriority) {
		c.Add("priority", "%d is outside 0 to 9; 9 goes first", *s.Priority)
	}
	if s.RunAt != 0 && s.Delay != 0 {
		c.Add("delay", "cannot be combined with run_at; give one of the two")
	}
	if s.StartBy != 0 && s.StartBy < s.RunAt {
		c.Add("start_by", "%s is before run_at: the job could never start", s.StartBy)
	}
	if s.MaxAttempts != nil && (*s.MaxAttempts < 0 || *s.MaxAttempts > MaxAttemptLimit) {
		c.Add("max_attempts", "%d is outside 1 to %d; 0 means no limit", *s.MaxAttempts, MaxAttemptLimit)
	}
	for _, d := range []struct {
		field string
		value Duration
	}{{"delay", s.Delay}, {"timeout", s.Timeout}} {
		if d.value < 0 || d.value > MaxDuration {
			c.Add(d.field, "%s is outside 0s to ten years", d.value)
		}
	}
	if k := s.KeepResult; k != nil && (*k < 0 || *k > MaxDuration) {
		c.Add("keep_result", "%s is outside 0s to ten years", *k)
	}
	if s.Timeout > 0 && s.Timeout < MinTimeout {
		c.Add("timeout", "%s is shorter than %s, too short to do anything; 0s means no timeout", s.Timeout, MinTimeout)
	}
	checkPayload(&c, s.Payload, maxPayload)
	c.Word("owner", s.Owner, MaxWordBytes)
	c.Word("lane", s.Lane, MaxWordBytes)
	c.Word("key", s.Key, MaxWordBytes)
	checkDedupe(&c, s)
	CheckLabels(&c, s.Labels)
	if s.Traceparent != "" && !traceparentForm.MatchString(s.Traceparent) {
		c.Add("traceparent", "%q is not a W3C traceparent; its form is 00-<32 hex>-<16 hex>-<2 hex>", text.Shorten(s.Traceparent))
	}
	if s.Retry != nil {
		c = append(c, s.Retry.check()...)
	}
	if s.After != nil {
		s.After.check(&c)
	}
	if s.Call != nil {
		s.checkCall(&c, maxPayload)
	}
	CheckNotify(&c, "notify", s.Notify)
	return c
}

// checkCall adds what is wrong with the call of a spec.
func (s *Spec) checkCall(c *check.List, maxPayload int) {
	if s.Payload != nil {
		c.Add("payload", "cannot be combined with call; give what is sent as call.body")
	}
	s.Call.check(c, "call.")
	if raw, err := marshal(s.Call); err != nil {
		c.Add("call.body", "cannot be written as JSON: %v", err)
	} else if len(raw) > maxPayload {
		c.Add("call", "is %d bytes; at most %d are taken", len(raw), maxPayload)
	}
}

// CheckStart answers why a spec that is enqueued now could never start; of a delay it is
// known only then when it ends.
func (s *Spec) CheckStart(now Time) []FieldError {
	var c check.List
	switch {
	case s.StartBy == 0:
	case s.StartBy <= now:
		c.Add("start_by", "%s is over: the job could never start", s.StartBy)
	case s.StartBy < now.Add(s.Delay.Go()):
		c.Add("start_by", "%s is before the delay of %s ends: the job could never start", s.StartBy, s.Delay)
	}
	return c
}

// checkPayload adds to a list what is wrong with a payload. That it is JSON is seen by whoever
// reads or writes the spec as JSON, so it is not looked at again here.
func checkPayload(c *check.List, payload json.RawMessage, most int) {
	if len(payload) > most {
		c.Add("payload", "is %d bytes; at most %d are taken: store the data elsewhere and pass its id", len(payload), most)
	}
}

// CheckLabels adds to a list what is wrong with labels.
func CheckLabels(c *check.List, labels map[string]string) {
	if len(labels) > MaxLabels {
		c.Add("labels", "are %d; at most %d are kept", len(labels), MaxLabels)
		return
	}
	names := make([]string, 0, len(labels))
	for name := range labels {
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		if name == "" {
			c.Add("labels", "one has an empty name; give it 1 to %d bytes", MaxLabelName)
		}
		c.Word("labels."+text.Shorten(name), name, MaxLabelName)
		c.Word("labels."+text.Shorten(name), labels[name], MaxLabelValue)
	}
}

// CheckAll checks every spec of a bulk; each error names the spec by at, which
// gives the place of the i-th one, such as "line 501".
func CheckAll(specs []Spec, maxPayload int, at func(i int) string) []FieldError {
	const most = 100
	var c check.List
	for i := range specs {
		for _, e := range specs[i].Check(maxPayload) {
			c.Add(at(i)+e.Field, "%s", e.Message)
		}
		if len(c) >= most {
			return c[:most]
		}
	}
	return c
}

// Warnings says what is allowed in the spec and likely not meant.
func (s *Spec) Warnings() (all []Warning) {
	if s.MaxAttempts != nil && *s.MaxAttempts == 0 && (s.Retry == nil || s.Retry.GiveUpAfter == 0) {
		all = append(all, Warning{WarnNoLimit, "max_attempts 0 means no limit: a job that always fails is retried forever; set retry.give_up_after to bound it."})
	}
	if s.Retry != nil {
		r := s.Retry.WithDefaults()
		first := r.First
		if r.Curve == List {
			first = r.Delays[0]
		}
		if r.GiveUpAfter > 0 && r.GiveUpAfter < first {
			all = append(all, Warning{WarnOneAttemptFits, fmt.Sprintf("retry.give_up_after (%s) is shorter than the first wait (%s): a job that fails once is dead at once.", r.GiveUpAfter, first)})
		}
	}
	return all
}

// Frozen is a copy of a spec that shares nothing with it, its payload as JSON. The error
// says what of it cannot be told.
func (s *Spec) Frozen() (frozen Spec, err error) {
	raw, err := json.Marshal(s)
	if err != nil {
		return frozen, Wrong("the spec cannot be told", []FieldError{{Field: "payload", Message: "cannot be written as JSON: " + err.Error()}})
	}
	if why := check.JSONFault(raw); why != "" {
		return frozen, Wrong("the spec cannot be told", []FieldError{{Field: "payload", Message: why}})
	}
	if err := json.Unmarshal(raw, &frozen); err != nil {
		return frozen, Wrong("the spec cannot be told", []FieldError{{Field: "spec", Message: err.Error()}})
	}
	return frozen, nil
}

// MinTimeout is the least time that an attempt can be given.
const MinTimeout = Duration(10e6)

const longestWait = Duration(30 * day)
