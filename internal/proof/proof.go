// Package proof tells whether a webhook is from whom it should be, and signs those that are sent:
// by Standard Webhooks, by an HMAC (RFC 2104) of a form of the sender's own, or by a secret that is
// shown. Secrets are compared in constant time.
package proof

import (
	"crypto/hmac"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"hash"
	"net/http"
	"strconv"
	"strings"
	"time"

	"humblemule.example/api"
)

// mostSignatures is how many signatures of a header are looked at.
const mostSignatures = 20

// The marks of Standard Webhooks: before a signature, and before a secret in base64.
const (
	signatureMark = "v1,"
	secretMark    = "whsec_"
)

// Check answers why a delivery is not proved to be from whoever knows one of the secrets: a reason of
// [api.HookRefusal], empty where it is. The id is what the delivery is known by.
func Check(p api.Proof, secrets [][]byte, h http.Header, id string, body []byte, now time.Time) (reason string) {
	switch p.Kind {
	case api.ProofNone:
		return ""
	case api.ProofBasic:
		secret, there := basic(p.User, h)
		return shown(secrets, secret, there)
	case api.ProofBearer:
		secret, there := bearer(p.Header, h)
		return shown(secrets, secret, there)
	}
	at, signatures := timestampOf(p, h), signaturesIn(p, h)
	if len(signatures) == 0 {
		return api.RefusedUnproved
	}
	if p.Kind == api.ProofStandard {
		id = h.Get(api.StandardID) // whatever else it is known by
	}
	text := signed(p, at, id, body)
	for _, secret := range secrets {
		sum := sign(p, secret, text)
		for _, s := range signatures {
			if hmac.Equal(s, sum) {
				return aged(p, at, now)
			}
		}
	}
	return api.RefusedSignature
}

// aged answers why the time of a delivery is not good, after it was proved.
func aged(p api.Proof, at string, now time.Time) string {
	if p.Kind != api.ProofStandard && p.TimestampHeader == "" {
		return ""
	}
	seconds, err := strconv.ParseInt(at, 10, 64)
	if err != nil || seconds < 0 || seconds > 1<<40 {
		return api.RefusedTimestamp
	}
	if now.Sub(time.Unix(seconds, 0)).Abs() > p.Tolerance.Go() {
		return api.RefusedTimestamp
	}
	return ""
}

// Sign sets the headers that prove a delivery.
func Sign(p api.Proof, secret []byte, h http.Header, id string, body []byte, now time.Time) {
	at := strconv.FormatInt(now.Unix(), 10)
	switch p.Kind {
	case api.ProofNone:
	case api.ProofBasic:
		h.Set("Authorization", "Basic "+base64.StdEncoding.EncodeToString([]byte(p.User+":"+string(secret))))
	case api.ProofBearer:
		if p.Header != "" {
			h.Set(p.Header, string(secret))
		} else {
			h.Set("Authorization", "Bearer "+string(secret))
		}
	case api.ProofStandard:
		h.Set(api.StandardID, id)
		h.Set(api.StandardTimestamp, at)
		h.Set(api.StandardSignature, signatureMark+base64.StdEncoding.EncodeToString(sign(p, secret, signed(p, at, id, body))))
	case api.ProofHMAC:
		signature := p.Prefix + encoded(p, sign(p, secret, signed(p, at, id, body)))
		put := func(header, part, value string) {
			if part != "" {
				value = part + "=" + value
				if before := h.Get(header); before != "" {
					value = before + "," + value
				}
			}
			h.Set(header, value)
		}
		if p.TimestampHeader != "" {
			put(p.TimestampHeader, p.TimestampPart, at)
		}
		put(p.Header, p.Part, signature)
	}
}

// shown tells whether one of the secrets was shown.
func shown(secrets [][]byte, secret string, there bool) string {
	if !there {
		return api.RefusedUnproved
	}
	same := 0
	for _, s := range secrets {
		a, b := sha256.Sum256(s), sha256.Sum256([]byte(secret)) // so that the length tells nothing
		same |= subtle.ConstantTimeCompare(a[:], b[:])
	}
	if same == 0 {
		return api.RefusedSignature
	}
	return ""
}

func bearer(header string, h http.Header) (secret string, there bool) {
	if header != "" {
		secret = h.Get(header)
		return secret, secret != ""
	}
	scheme, secret, there := strings.Cut(h.Get("Authorization"), " ")
	return strings.TrimSpace(secret), there && strings.EqualFold(scheme, "Bearer")
}

func basic(user string, h http.Header) (secret string, there bool) {
	r := http.Request{Header: h}
	name, secret, there := r.BasicAuth()
	return secret, there && subtle.ConstantTimeCompare([]byte(name), []byte(user)) == 1
}

// timestampOf is when a delivery was signed, as it says.
func timestampOf(p api.Proof, h http.Header) string {
	if p.Kind == api.ProofStandard {
		return h.Get(api.StandardTimestamp)
	}
	if p.TimestampHeader == "" {
		return ""
	}
	for _, at := range parts(h.Values(p.TimestampHeader), p.TimestampPart) {
		return at
	}
	return ""
}

// signaturesIn are those that a delivery shows.
func signaturesIn(p api.Proof, h http.Header) (all [][]byte) {
	if p.Kind == api.ProofStandard {
		for _, s := range strings.Fields(strings.Join(h.Values(api.StandardSignature), " ")) {
			text, is := strings.CutPrefix(s, signatureMark)
			if raw, err := base64.StdEncoding.DecodeString(text); is && err == nil && len(all) < mostSignatures {
				all = append(all, raw)
			}
		}
		return all
	}
	for _, s := range parts(h.Values(p.Header), p.Part) {
		text, is := strings.CutPrefix(s, p.Prefix)
		if raw, err := decoded(p, text); is && err == nil && len(all) < mostSignatures {
			all = append(all, raw)
		}
	}
	return all
}

// parts are the values of a header or, where it holds pairs, those of one name.
func parts(values []string, name string) (all []string) {
	if name == "" {
		for _, v := range values {
			all = append(all, strings.TrimSpace(v))
		}
		return all
	}
	for _, v := range values {
		for pair := range strings.SplitSeq(v, ",") {
			if n, value, is := strings.Cut(strings.TrimSpace(pair), "="); is && n == name {
				all = append(all, value)
			}
		}
	}
	return all
}

// signed is the text that is signed, in pieces.
func signed(p api.Proof, at, id string, body []byte) [][]byte {
	if p.Kind == api.ProofStandard {
		return [][]byte{[]byte(id + "." + at + "."), body}
	}
	fill := strings.NewReplacer("{timestamp}", at, "{id}", id)
	before, after, _ := strings.Cut(p.Signs, "{body}")
	return [][]byte{[]byte(fill.Replace(before)), body, []byte(fill.Replace(after))}
}

func sign(p api.Proof, secret []byte, text [][]byte) []byte {
	if p.Kind == api.ProofStandard {
		secret = standardSecret(secret)
	}
	m := hmac.New(hashOf(p.Algorithm), secret)
	for _, piece := range text {
		m.Write(piece)
	}
	return m.Sum(nil)
}

// standardSecret is the key of a secret of Standard Webhooks, which is in base64 behind its mark. Without the
// mark it is taken as it is.
func standardSecret(secret []byte) []byte {
	text, marked := strings.CutPrefix(string(secret), secretMark)
	if key, err := base64.StdEncoding.DecodeString(text); marked && err == nil {
		return key
	}
	return secret
}

func hashOf(algorithm string) func() hash.Hash {
	switch algorithm {
	case api.HashSHA512:
		return sha512.New
	case api.HashSHA1:
		return sha1.New
	}
	return sha256.New
}

func encoded(p api.Proof, sum []byte) string {
	if p.Encoding == api.EncodingBase64 {
		return base64.StdEncoding.EncodeToString(sum)
	}
	return hex.EncodeToString(sum)
}

func decoded(p api.Proof, text string) ([]byte, error) {
	if p.Encoding == api.EncodingBase64 {
		return base64.StdEncoding.DecodeString(text)
	}
	return hex.DecodeString(text)
}
