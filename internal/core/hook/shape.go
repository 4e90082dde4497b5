package hook

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"mime"
	"strings"
	"unicode/utf8"

	"humblemule.example/api"
	"humblemule.example/internal/check"
	"humblemule.example/internal/text"
	"humblemule.example/internal/veil"
	"humblemule.example/job"
)

// Arrived is a delivery as it came.
type Arrived struct {
	// Header gives the value of a header, of which the name need not be in its case; empty where it is not there.
	Header func(name string) string
	// MediaType is what the sender says of the body.
	MediaType string
	Body      []byte
}

// ID is the id that a delivery to a hook has; empty for none.
func (a *Arrived) ID(h *api.Hook) string { return taken(h.WithDefaults().IDFrom, a) }

// delivery is what becomes of one.
type delivery struct {
	spec job.Spec
	// sender is the id as it is shown, mark what it is known by, nil where it has none, and wantsID tells that
	// one was looked for. body is a hash of the body.
	sender     string
	mark, body []byte
	wantsID    bool
	// old is an earlier delivery with the same id that is no longer known by it; 0 for none.
	old int64
}

func labelled(name string) map[string]string { return map[string]string{api.HookLabel: name} }

// shape makes a delivery what it is to become. Nothing that came is left out because of its form: only its
// size is refused.
func shape(name string, h *api.Hook, a *Arrived, maxPayload int) (*delivery, error) {
	whole := h.WithDefaults()
	d := &delivery{spec: h.Spec(), body: sumOf(a.Body), wantsID: whole.IDFrom != nil}
	d.spec.Payload = payloadOf(h, a)
	if n := len(d.spec.Payload); n > maxPayload {
		return nil, job.Fault(job.TooLarge, "the delivery becomes a payload of %d bytes; at most %d are taken", n, maxPayload)
	}
	d.spec.Labels = labelled(name)
	d.spec.Lane, d.spec.Owner = wordOf(taken(h.Lane, a)), wordOf(taken(h.Owner, a))
	if id := taken(whole.IDFrom, a); id != "" {
		d.sender, d.mark = shortened(id), markOf(name, id)
		d.spec.Key = d.sender
	}
	return d, nil
}

// payloadOf is the payload of a delivery's job, as [api.Hook] tells.
func payloadOf(h *api.Hook, a *Arrived) []byte {
	kind, _, err := mime.ParseMediaType(a.MediaType)
	if err != nil {
		kind = a.MediaType
	}
	body := bytes.TrimSpace(a.Body)
	isJSON := saysJSON(kind) && check.JSONFault(body) == ""
	if isJSON && len(h.KeepHeaders) == 0 {
		return body
	}
	var b object
	if len(h.KeepHeaders) > 0 {
		kept := map[string]string{}
		for _, name := range h.KeepHeaders {
			if value := a.Header(name); value != "" {
				kept[strings.ToLower(name)] = value
			}
		}
		b.add("headers", job.JSON(kept))
	}
	switch {
	case isJSON:
		b.add("body", body)
	case utf8.Valid(a.Body):
		b.add("media_type", job.JSON(a.MediaType))
		b.add("text", job.JSON(string(a.Body)))
	default:
		b.add("media_type", job.JSON(a.MediaType))
		b.add("base64", job.JSON(base64.StdEncoding.EncodeToString(a.Body)))
	}
	return append(b, '}')
}

// object is one of JSON as it is written, so that the values in it keep their bytes.
type object []byte

func (o *object) add(name string, value []byte) {
	open := byte(',')
	if len(*o) == 0 {
		open = '{'
	}
	*o = append(append(append(*o, open, '"'), name+`":`...), value...)
}

// saysJSON tells whether a media type is one of JSON; without one a body is taken for it.
func saysJSON(kind string) bool {
	return kind == "" || kind == "application/json" || kind == "text/json" || strings.HasSuffix(kind, "+json")
}

// taken is what is taken from a delivery; empty where it is not there.
func taken(t *api.Taken, a *Arrived) string {
	switch {
	case t == nil:
		return ""
	case t.Header != "":
		return a.Header(t.Header)
	case t.Pointer != "":
		return at(a.Body, t.Pointer)
	}
	return t.Value
}

// at is the text, the number, true or false at a pointer of a JSON value; empty where there is none.
func at(body []byte, pointer string) string {
	value := veil.At(body, pointer)
	var s string
	switch {
	case len(value) == 0:
	case value[0] == '"':
		json.Unmarshal(value, &s) // a text of JSON always is one
	case value[0] != '{' && value[0] != '[' && string(value) != "null":
		s = string(value)
	}
	return s
}

// wordOf is a text as an owner or a lane may be. What cannot be one stands for itself by its hash, so that
// what is alike stays together.
func wordOf(s string) string {
	if len(s) <= job.MaxWordBytes && utf8.ValidString(s) && !strings.ContainsFunc(s, text.Commands) {
		return s
	}
	sum := sha256.Sum256([]byte(s))
	return "sha256-" + hex.EncodeToString(sum[:])
}
