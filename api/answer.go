package api

import "encoding/json"

// CallAnswer is the result of a job that is a call: the answer, as much of it as fits within
// MaxResultBytes.
type CallAnswer struct {
	Status int `json:"status"`
	// Headers are those of the answer, in lower case, but for cookies.
	Headers map[string]string `json:"headers"`
	// Body is the answer where that is JSON, Text where it is other text, and Base64 where it is neither. Cut tells
	// that it was longer, or ended early.
	Body   json.RawMessage `json:"body,omitzero"`
	Text   string          `json:"text,omitzero"`
	Base64 string          `json:"base64,omitzero"`
	Cut    bool            `json:"cut,omitzero"`
	TookMS int64           `json:"took_ms"`
}
