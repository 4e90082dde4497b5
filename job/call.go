package job

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/url"
	"reflect"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"humblemule.example/internal/check"
	"humblemule.example/internal/text"
)

// Call is an HTTP request (RFC 9110) that the service makes itself as the work of a job.
type Call struct {
	// Method is GET, HEAD, POST, PUT, PATCH or DELETE; empty means POST where there is a body, else GET.
	Method string `json:"method,omitzero"`
	// URL is absolute, of http or https, without a user.
	URL string `json:"url"`
	// Headers are those of the request; a value is a text, or a secret that the service knows by name.
	Headers map[string]HeaderValue `json:"headers,omitzero"`
	// Body is any value of JSON, sent as application/json byte for byte; Text is sent as it is, as text/plain
	// unless the headers say otherwise. At most one of the two is given.
	Body json.RawMessage `json:"body,omitzero"`
	Text string          `json:"text,omitzero"`
	// Timeout bounds the whole request, 1s to 15m; zero means 30s.
	Timeout Duration `json:"timeout,omitzero"`
	// OK are statuses that are as good as those of 2xx, from 200 to 599.
	OK []int `json:"ok,omitzero"`
}

// HeaderValue is the value of a header of a call: a text, or a secret with what stands before it. It reads
// and writes itself as a text, or as an object.
type HeaderValue struct {
	Text string
	// Secret is the name of a secret that the service was started with, and Prefix what is sent before it,
	// such as "Bearer ".
	Secret, Prefix string
}

type secretValue struct {
	Secret string `json:"secret"`
	Prefix string `json:"prefix,omitzero"`
}

// MarshalJSON writes a text, or an object for a secret.
func (v HeaderValue) MarshalJSON() ([]byte, error) {
	if v.Secret != "" {
		return marshal(secretValue{v.Secret, v.Prefix})
	}
	return marshal(v.Text)
}

// UnmarshalJSON reads a text, or an object with secret and prefix.
func (v *HeaderValue) UnmarshalJSON(raw []byte) error {
	*v = HeaderValue{}
	if raw = bytes.TrimSpace(raw); len(raw) == 0 || raw[0] != '{' {
		return json.Unmarshal(raw, &v.Text)
	}
	var s secretValue
	d := json.NewDecoder(bytes.NewReader(raw))
	d.DisallowUnknownFields()
	if err := d.Decode(&s); err != nil {
		return err
	}
	if s.Secret == "" {
		return fmt.Errorf("a header is a text, or an object that names a secret")
	}
	v.Secret, v.Prefix = s.Secret, s.Prefix
	return nil
}

// The bounds of a call.
const (
	DefaultCallTimeout = Duration(30 * time.Second)
	MaxCallTimeout     = Duration(15 * time.Minute)
	MaxCallHeaders     = 50
	MaxCallURL         = 2048
	maxHeaderName      = 128
	maxHeaderValue     = 4096
	maxCallStatuses    = 50
)

var (
	callMethods = []string{"GET", "HEAD", "POST", "PUT", "PATCH", "DELETE"}
	// ownHeaders are those that belong to the connection, or that the service sets.
	ownHeaders = []string{"Host", "Content-Length", "Transfer-Encoding", "Connection", "Keep-Alive", "Proxy-Connection", "Proxy-Authorization", "Upgrade", "Trailer", "Te", "Expect"}
)

// WithDefaults gives a call with its defaults.
func (c Call) WithDefaults() Call {
	if c.Method == "" {
		c.Method = "GET"
		if c.Body != nil || c.Text != "" {
			c.Method = "POST"
		}
	}
	if c.Timeout == 0 {
		c.Timeout = DefaultCallTimeout
	}
	return c
}

// Host is the host that a call asks, with its port where that is not the scheme's own, in lower case;
// empty where the URL is not valid.
func (c *Call) Host() string {
	u, err := url.Parse(c.URL)
	if err != nil {
		return ""
	}
	host := strings.ToLower(u.Hostname())
	if strings.Contains(host, ":") {
		host = "[" + host + "]"
	}
	if p := u.Port(); p != "" && p != map[string]string{"http": "80", "https": "443"}[strings.ToLower(u.Scheme)] {
		host += ":" + p
	}
	return host
}

// Secrets are the names of the secrets that a call shows.
func (c *Call) Secrets() (all []string) {
	for _, name := range slices.Sorted(keys(c.Headers)) {
		if s := c.Headers[name].Secret; s != "" && !slices.Contains(all, s) {
			all = append(all, s)
		}
	}
	return all
}

func keys[V any](m map[string]V) func(yield func(string) bool) {
	return func(yield func(string) bool) {
		for k := range m {
			if !yield(k) {
				return
			}
		}
	}
}

// Same tells whether two calls ask for the same.
func (c *Call) Same(other *Call) bool { return reflect.DeepEqual(c, other) }

// check adds what is wrong with a call, whose fields are named behind at.
func (c *Call) check(list *check.List, at string) {
	if c.Method != "" && !slices.Contains(callMethods, c.Method) {
		list.Add(at+"method", "%q is unknown; it is one of %s", text.Shorten(c.Method), strings.Join(callMethods, ", "))
	}
	if why := faultOfURL(c.URL); why != "" {
		list.Add(at+"url", "%s", why)
	}
	c.checkHeaders(list, at)
	switch whole := c.WithDefaults(); {
	case c.Body != nil && c.Text != "":
		list.Add(at+"text", "cannot be combined with body; give one of the two")
	case (c.Body != nil || c.Text != "") && (whole.Method == "GET" || whole.Method == "HEAD"):
		list.Add(at+"body", "cannot be sent with %s; leave it out, or give another method", whole.Method)
	}
	if c.Timeout != 0 && (c.Timeout < Duration(time.Second) || c.Timeout > MaxCallTimeout) {
		list.Add(at+"timeout", "%s is outside 1s to 15m", c.Timeout)
	}
	CheckStatuses(list, at+"ok", c.OK)
}

// CheckStatuses adds to a list what is wrong with statuses of HTTP.
func CheckStatuses(list *check.List, field string, all []int) {
	if len(all) > maxCallStatuses {
		list.Add(field, "are %d; at most %d are taken", len(all), maxCallStatuses)
	}
	for i, status := range all {
		if status < 200 || status > 599 {
			list.Add(fmt.Sprintf("%s[%d]", field, i), "%d is outside 200 to 599", status)
		}
	}
}

// faultOfURL says why a text is not a URL that is called.
func faultOfURL(raw string) string {
	if raw == "" {
		return "is missing; give one such as https://api.bank.example/v1/charges"
	}
	u, err := url.Parse(raw)
	switch {
	case len(raw) > MaxCallURL:
		return fmt.Sprintf("is %d bytes; at most %d are taken", len(raw), MaxCallURL)
	case err != nil || strings.ContainsFunc(raw, func(r rune) bool { return r <= ' ' || r == 0x7f }):
		return fmt.Sprintf("%q is not a valid URL", text.Shorten(raw))
	case u.Scheme != "http" && u.Scheme != "https":
		return fmt.Sprintf("%q is not of http or https", text.Shorten(raw))
	case u.User != nil:
		return "holds a user; name a secret in headers.Authorization instead"
	case u.Hostname() == "":
		return "names no host"
	case u.Fragment != "":
		return "has a fragment, which is never sent; leave it out"
	}
	return ""
}

func (c *Call) checkHeaders(list *check.List, at string) {
	if len(c.Headers) > MaxCallHeaders {
		list.Add(at+"headers", "are %d; at most %d are taken", len(c.Headers), MaxCallHeaders)
		return
	}
	seen := map[string]bool{}
	for _, name := range slices.Sorted(keys(c.Headers)) {
		field, v, lower := at+"headers."+text.Shorten(name), c.Headers[name], strings.ToLower(name)
		switch {
		case !IsHeaderName(name):
			list.Add(field, "is not a valid name of a header")
		case slices.ContainsFunc(ownHeaders, func(own string) bool { return strings.EqualFold(own, name) }):
			list.Add(field, "cannot be set: the service sets it itself")
		case seen[lower]:
			list.Add(field, "appears twice, in other cases")
		case len(v.Text) > maxHeaderValue || len(v.Prefix) > maxHeaderValue:
			list.Add(field, "is longer than %d bytes", maxHeaderValue)
		case !isHeaderText(v.Text) || !isHeaderText(v.Prefix):
			list.Add(field, "holds a control character, such as the end of a line; leave it out")
		}
		if seen[lower] = true; v.Secret != "" {
			list.Name(field+".secret", v.Secret)
		}
	}
}

// IsHeaderName tells whether a text may be the name of a header (RFC 9110, section 5.1).
func IsHeaderName(name string) bool {
	return name != "" && len(name) <= maxHeaderName && !strings.ContainsFunc(name, func(r rune) bool {
		return (r < '0' || r > '9') && (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') && !strings.ContainsRune("!#$%&'*+-.^_`|~", r)
	})
}

// isHeaderText tells whether a text may be the value of a header (RFC 9110, section 5.5).
func isHeaderText(s string) bool {
	return utf8.ValidString(s) && !strings.ContainsFunc(s, func(r rune) bool { return r < ' ' && r != '\t' || r == 0x7f })
}

// ReadCall reads a call as it is kept.
func ReadCall(raw []byte) (*Call, error) {
	c := new(Call)
	if err := json.Unmarshal(raw, c); err != nil {
		return nil, err
	}
	return c, nil
}
