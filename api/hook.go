package api

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"humblemule.example/internal/check"
	"humblemule.example/internal/text"
	"humblemule.example/internal/veil"
	"humblemule.example/job"
)

// Hook is an address that takes webhooks, /hooks/{name}: what is delivered there becomes a job.
//
// The payload of the job is the body as it came where that is JSON, and of other media types an
// object with media_type and text, or base64 where the body is no UTF-8. Where headers are kept, it
// is an object with headers (names in lower case) and body, or media_type and text or base64. The
// key of the job is the id of the delivery, and its label hook the name of the hook.
type Hook struct {
	Name string `json:"name,omitzero"`
	// Task is what the jobs do; Queue and Priority say where and how they wait, where that is not
	// what holds for the task.
	Task     string `json:"task"`
	Queue    string `json:"queue,omitzero"`
	Priority *int   `json:"priority,omitzero"`
	// Lane and Owner are those of the jobs; nil for none.
	Lane  *Taken `json:"lane,omitzero"`
	Owner *Taken `json:"owner,omitzero"`
	// IDFrom says where a delivery has its id, by which it is known when it comes again within
	// HookRemembers. Nil means the header webhook-id where the proof is standard, else that every
	// delivery becomes a job.
	IDFrom *Taken `json:"id_from,omitzero"`
	// KeepHeaders are the headers that are kept of each delivery.
	KeepHeaders []string `json:"keep_headers,omitzero"`
	// Proof says how a sender proves that a delivery is its own.
	Proof Proof  `json:"proof"`
	Note  string `json:"note,omitzero"`
}

// Taken is a text that is fixed, or taken from each delivery: from a header, or from the body, which
// is JSON, by a pointer (RFC 6901) to a text, a number, true or false. One of the three is given.
type Taken struct {
	Value   string `json:"value,omitzero"`
	Header  string `json:"header,omitzero"`
	Pointer string `json:"pointer,omitzero"`
}

// Proof says how a sender proves that a delivery is its own.
type Proof struct {
	// Kind is standard (Standard Webhooks), hmac (RFC 2104), bearer (RFC 6750, or a header of its own),
	// basic (RFC 7617) or none.
	Kind string `json:"kind"`
	// Secrets are names of secrets that the service was started with: one or, while it is replaced,
	// two, of which either proves.
	Secrets []string `json:"secrets,omitzero"`
	// User is the name of basic.
	User string `json:"user,omitzero"`
	// Header is where hmac has its signature, and bearer its secret, where that is not Authorization.
	// Part is the name of the signature where the header holds pairs, as in t=1767168000,v1=5257a8.
	Header string `json:"header,omitzero"`
	Part   string `json:"part,omitzero"`
	// Algorithm is the hash of hmac: sha256 (the default), sha512 or sha1. Encoding is hex (the default) or
	// base64, and Prefix what stands before a signature.
	Algorithm string `json:"algorithm,omitzero"`
	Encoding  string `json:"encoding,omitzero"`
	Prefix    string `json:"prefix,omitzero"`
	// Signs is what hmac signs: {body} (the default), which it holds once, with {timestamp}, {id} and other text
	// around it, such as {timestamp}.{body}.
	Signs string `json:"signs,omitzero"`
	// TimestampHeader is where a delivery has the time at which it was signed, in seconds since 1970, and
	// TimestampPart its name where the header holds pairs.
	TimestampHeader string `json:"timestamp_header,omitzero"`
	TimestampPart   string `json:"timestamp_part,omitzero"`
	// Tolerance is how far that time may be from the service's, 1s to 24h; zero means 5m.
	Tolerance job.Duration `json:"tolerance,omitzero"`
}

// The words of a proof.
const (
	ProofStandard = "standard"
	ProofHMAC     = "hmac"
	ProofBearer   = "bearer"
	ProofBasic    = "basic"
	ProofNone     = "none"

	HashSHA256 = "sha256"
	HashSHA512 = "sha512"
	HashSHA1   = "sha1"

	EncodingHex    = "hex"
	EncodingBase64 = "base64"
)

// What a hook may hold, and for how long it knows deliveries again.
const (
	MaxHooks         = 1000
	MaxKeptHeaders   = 20
	HookRemembers    = job.Duration(30 * day)
	DefaultTolerance = job.Duration(5 * time.Minute)
	// HookLabel is the label that jobs of hooks have.
	HookLabel = "hook"

	longestTolerance = job.Duration(24 * time.Hour)
	longestPointer   = 256
	longestSigns     = 200
	longestPrefix    = 20
	// mostRefusals is how many of the last refusals are told one by one.
	mostRefusals = 20
)

// The headers of Standard Webhooks.
const (
	StandardID        = "webhook-id"
	StandardTimestamp = "webhook-timestamp"
	StandardSignature = "webhook-signature"
)

// WithDefaults gives a hook with its defaults.
func (h Hook) WithDefaults() Hook {
	if h.Proof.Kind == ProofStandard && h.IDFrom == nil {
		h.IDFrom = &Taken{Header: StandardID}
	}
	h.Proof = h.Proof.withDefaults()
	return h
}

func (p Proof) withDefaults() Proof {
	for _, d := range []struct {
		field *string
		word  string
	}{{&p.Algorithm, HashSHA256}, {&p.Encoding, EncodingHex}, {&p.Signs, "{body}"}} {
		if p.Kind == ProofHMAC && *d.field == "" {
			*d.field = d.word
		}
	}
	if p.Tolerance == 0 && (p.Kind == ProofStandard || p.TimestampHeader != "") {
		p.Tolerance = DefaultTolerance
	}
	return p
}

// Spec is that of the jobs of a hook, but for what is taken from each delivery.
func (h *Hook) Spec() job.Spec { return job.Spec{Task: h.Task, Queue: h.Queue, Priority: h.Priority} }

// Check answers what is wrong with a hook, but for whether its secrets are there.
func (h *Hook) Check() []job.FieldError {
	spec := h.Spec()
	c := check.List(spec.Check(job.MaxPayloadBytes))
	for _, t := range []struct {
		field string
		taken *Taken
	}{{"lane", h.Lane}, {"owner", h.Owner}, {"id_from", h.IDFrom}} {
		if t.taken != nil {
			t.taken.check(&c, t.field)
		}
	}
	if h.IDFrom != nil && h.IDFrom.Value != "" {
		c.Add("id_from.value", "would be the same for every delivery; give header or pointer")
	}
	if len(h.KeepHeaders) > MaxKeptHeaders {
		c.Add("keep_headers", "are %d; at most %d are kept", len(h.KeepHeaders), MaxKeptHeaders)
	}
	for i, name := range h.KeepHeaders {
		at := fmt.Sprintf("keep_headers[%d]", i)
		header(&c, at, name)
		if secretHeader(name) {
			c.Add(at, "%s holds what proves the sender and is never kept", name)
		}
		if slices.ContainsFunc(h.KeepHeaders[:i], func(o string) bool { return strings.EqualFold(o, name) }) {
			c.Add(at, "%s appears twice", name)
		}
	}
	h.Proof.check(&c)
	if len(h.Note) > longestNote {
		c.Add("note", "is longer than %d bytes", longestNote)
	}
	return c
}

// secretHeader tells whether a header holds what proves a sender.
func secretHeader(name string) bool {
	return strings.EqualFold(name, "Authorization") || strings.EqualFold(name, "Cookie") || strings.EqualFold(name, "Proxy-Authorization")
}

func (t *Taken) check(c *check.List, at string) {
	given := 0
	for _, s := range []string{t.Value, t.Header, t.Pointer} {
		if s != "" {
			given++
		}
	}
	if given != 1 {
		c.Add(at, "has %s; give one of value, header and pointer", map[bool]string{true: "none of its fields", false: "more than one field"}[given == 0])
	}
	if t.Value != "" {
		c.Word(at+".value", t.Value, job.MaxWordBytes)
	}
	if t.Header != "" {
		header(c, at+".header", t.Header)
	}
	if t.Pointer != "" && (!veil.Valid(t.Pointer) || len(t.Pointer) > longestPointer) {
		c.Add(at+".pointer", "%q is not a JSON Pointer to a part of the body, such as /data/id", text.Shorten(t.Pointer))
	}
}

// header wants a value to be the name of a header.
func header(c *check.List, at, name string) {
	if !job.IsHeaderName(name) {
		c.Add(at, "%q is not a valid name of a header", text.Shorten(name))
	}
}

// proofFields are the fields of a proof beside kind, with the kinds that they belong to.
var proofFields = []struct {
	name  string
	given func(p *Proof) bool
	kinds []string
}{
	{"secrets", func(p *Proof) bool { return len(p.Secrets) > 0 }, []string{ProofStandard, ProofHMAC, ProofBearer, ProofBasic}},
	{"user", func(p *Proof) bool { return p.User != "" }, []string{ProofBasic}},
	{"header", func(p *Proof) bool { return p.Header != "" }, []string{ProofHMAC, ProofBearer}},
	{"part", func(p *Proof) bool { return p.Part != "" }, []string{ProofHMAC}},
	{"algorithm", func(p *Proof) bool { return p.Algorithm != "" }, []string{ProofHMAC}},
	{"encoding", func(p *Proof) bool { return p.Encoding != "" }, []string{ProofHMAC}},
	{"prefix", func(p *Proof) bool { return p.Prefix != "" }, []string{ProofHMAC}},
	{"signs", func(p *Proof) bool { return p.Signs != "" }, []string{ProofHMAC}},
	{"timestamp_header", func(p *Proof) bool { return p.TimestampHeader != "" }, []string{ProofHMAC}},
	{"timestamp_part", func(p *Proof) bool { return p.TimestampPart != "" }, []string{ProofHMAC}},
	{"tolerance", func(p *Proof) bool { return p.Tolerance != 0 }, []string{ProofStandard, ProofHMAC}},
}

func (p *Proof) check(c *check.List) {
	if p.Kind == "" {
		c.Add("proof.kind", "is missing; it is standard, hmac, bearer or basic, or none where anybody may send")
		return
	}
	before := len(*c)
	if c.OneOf("proof.kind", p.Kind, ProofStandard, ProofHMAC, ProofBearer, ProofBasic, ProofNone); len(*c) > before {
		return
	}
	for _, f := range proofFields {
		switch belongs := slices.Contains(f.kinds, p.Kind); {
		case f.given(p) && !belongs:
			c.Add("proof."+f.name, "does not belong to the proof %s; leave it out", p.Kind)
		case f.name == "secrets" && belongs && (len(p.Secrets) == 0 || len(p.Secrets) > 2):
			c.Add("proof.secrets", "are %d; name one or, while it is replaced, two", len(p.Secrets))
		}
	}
	for i, name := range p.Secrets {
		c.Name(fmt.Sprintf("proof.secrets[%d]", i), name)
	}
	if p.Kind == ProofBasic {
		if p.User == "" || strings.Contains(p.User, ":") {
			c.Add("proof.user", "is missing or holds a colon; give the name that the sender shows")
		}
		c.Word("proof.user", p.User, job.MaxWordBytes)
	}
	if p.Header != "" {
		header(c, "proof.header", p.Header)
	}
	if p.Kind == ProofHMAC {
		p.checkHMAC(c)
	}
	if p.Tolerance != 0 && (p.Tolerance < job.Duration(time.Second) || p.Tolerance > longestTolerance) {
		c.Add("proof.tolerance", "%s is outside 1s to 24h", p.Tolerance)
	}
}

func (p *Proof) checkHMAC(c *check.List) {
	if p.Header == "" {
		c.Add("proof.header", "is missing; name the header that holds the signature")
	}
	c.OneOf("proof.algorithm", p.Algorithm, HashSHA256, HashSHA512, HashSHA1)
	c.OneOf("proof.encoding", p.Encoding, EncodingHex, EncodingBase64)
	c.Word("proof.prefix", p.Prefix, longestPrefix)
	for field, part := range map[string]string{"proof.part": p.Part, "proof.timestamp_part": p.TimestampPart} {
		if part != "" {
			header(c, field, part)
		}
	}
	if p.TimestampHeader != "" {
		header(c, "proof.timestamp_header", p.TimestampHeader)
	} else if p.TimestampPart != "" {
		c.Add("proof.timestamp_part", "needs timestamp_header")
	}
	if p.Tolerance != 0 && p.TimestampHeader == "" {
		c.Add("proof.tolerance", "needs timestamp_header, which says where the time of a delivery is")
	}
	if p.Signs == "" {
		return
	}
	c.Word("proof.signs", p.Signs, longestSigns)
	if strings.Count(p.Signs, "{body}") != 1 {
		c.Add("proof.signs", "%q does not hold {body} once", text.Shorten(p.Signs))
	}
	if timed := strings.Contains(p.Signs, "{timestamp}"); timed && p.TimestampHeader == "" {
		c.Add("proof.signs", "holds {timestamp}, and there is no timestamp_header")
	} else if !timed && p.TimestampHeader != "" {
		c.Add("proof.signs", "does not hold {timestamp}: the time of a delivery would prove nothing; write it as it is signed, such as {timestamp}.{body}")
	}
	rest := strings.NewReplacer("{body}", "", "{timestamp}", "", "{id}", "").Replace(p.Signs)
	if strings.ContainsAny(rest, "{}") {
		c.Add("proof.signs", "holds braces that are not {body}, {timestamp} or {id}")
	}
}

// Warnings says what is allowed in a hook and likely not meant.
func (h *Hook) Warnings() (all []job.Warning) {
	if h.WithDefaults().IDFrom == nil {
		all = append(all, job.Warning{Code: job.WarnNoID, Message: "There is no id_from: a delivery that the sender repeats becomes a second job."})
	}
	if h.Proof.Kind == ProofNone {
		all = append(all, job.Warning{Code: job.WarnUnproved, Message: "The proof is none: deliveries are taken from this machine only, unless the service is started with --open-hooks; then anybody can enqueue jobs here."})
	}
	return all
}

// HookStatus is a hook as it stands.
type HookStatus struct {
	Hook
	// Path is where it takes deliveries, with the base path of the service.
	Path      string     `json:"path"`
	Version   int64      `json:"version"`
	MadeAt    job.Time   `json:"made_at"`
	DefinedBy string     `json:"defined_by"`
	Counts    HookCounts `json:"counts"`
	// Faults say why it cannot take deliveries now, such as a secret that is not there.
	Faults   []string      `json:"faults,omitzero"`
	Warnings []job.Warning `json:"warnings,omitzero"`
}

// HookCounts are the deliveries since a hook was made.
type HookCounts struct {
	// Taken became jobs, Repeated were known already, Differing of them had another body, and
	// WithoutID of those taken had no id though one was looked for.
	Taken     int64 `json:"taken"`
	Repeated  int64 `json:"repeated"`
	Differing int64 `json:"differing"`
	WithoutID int64 `json:"without_id"`
	// Refused counts by reason those that were refused, and Refusals are the last of them, the latest
	// first.
	Refused  map[string]int64 `json:"refused,omitzero"`
	Refusals []HookRefusal    `json:"refusals,omitzero"`
	// LastAt is when one was taken last.
	LastAt job.Time `json:"last_at,omitzero"`
}

// NumRefused counts the deliveries that were refused, whatever for.
func (n *HookCounts) NumRefused() (all int64) {
	for _, of := range n.Refused {
		all += of
	}
	return all
}

// With gives the counts with refusals that came after them.
func (n HookCounts) With(later *HookCounts) HookCounts {
	n.Refused = maps.Clone(n.Refused)
	if n.Refused == nil {
		n.Refused = map[string]int64{}
	}
	for reason, of := range later.Refused {
		n.Refused[reason] += of
	}
	n.Refusals = slices.Concat(later.Refusals, n.Refusals)
	n.Refusals = n.Refusals[:min(len(n.Refusals), mostRefusals)]
	return n
}

// HookRefusal is a delivery that was refused.
type HookRefusal struct {
	At     job.Time `json:"at"`
	Reason string   `json:"reason"`
	// From is the address of the sender.
	From string `json:"from,omitzero"`
}

// Why a delivery is refused.
const (
	RefusedSignature = "signature"
	RefusedTimestamp = "timestamp"
	RefusedUnproved  = "unproved"
	RefusedTooLarge  = "too_large"
	RefusedEncoding  = "content_encoding"
	RefusedSecret    = "secret_missing"
	RefusedBusy      = "busy"
)

// RefusalSays tells each reason in words.
func RefusalSays(reason string) string {
	switch reason {
	case RefusedSignature:
		return "the signature or the secret is wrong"
	case RefusedTimestamp:
		return "signed too long ago, or ahead"
	case RefusedUnproved:
		return "no proof, or from another machine"
	case RefusedTooLarge:
		return "the body is too large"
	case RefusedEncoding:
		return "the body is compressed"
	case RefusedSecret:
		return "the service cannot read the secret"
	case RefusedBusy:
		return "the service could not keep it"
	}
	return reason
}

// Received is the answer to a delivery.
type Received struct {
	Job int64 `json:"job"`
	// Repeated tells that the job is of an earlier delivery with the same id, and Differs that its body was
	// another one.
	Repeated bool `json:"repeated,omitzero"`
	Differs  bool `json:"differs,omitzero"`
}

// Delivery is one that became a job.
type Delivery struct {
	// Number counts deliveries of all hooks.
	Number int64    `json:"number"`
	At     job.Time `json:"at"`
	Job    int64    `json:"job"`
	// State is that of the job; absent where it is no longer kept.
	State job.State `json:"state,omitzero"`
	ID    string    `json:"id,omitzero"`
	// Times is how often it came, Differing how often of these with another body, and LastAt when last.
	Times     int64    `json:"times"`
	Differing int64    `json:"differing,omitzero"`
	LastAt    job.Time `json:"last_at"`
}
