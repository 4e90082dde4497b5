package proof

import (
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"humblemule.example/api"
	"humblemule.example/job"
)

var now = time.Unix(1_798_761_600, 0)

func good(p api.Proof) api.Proof { return api.Hook{Proof: p}.WithDefaults().Proof }

var proofs = map[string]api.Proof{
	"standard": {Kind: api.ProofStandard},
	"plain":    {Kind: api.ProofHMAC, Header: "X-Signature", Prefix: "sha256="},
	"base64":   {Kind: api.ProofHMAC, Header: "X-Hmac", Algorithm: api.HashSHA512, Encoding: api.EncodingBase64},
	"old":      {Kind: api.ProofHMAC, Header: "X-Hub", Algorithm: api.HashSHA1},
	"pairs":    {Kind: api.ProofHMAC, Header: "X-Seal", Part: "v1", TimestampHeader: "X-Seal", TimestampPart: "t", Signs: "{timestamp}.{body}"},
	"around":   {Kind: api.ProofHMAC, Header: "X-Sig", TimestampHeader: "X-At", Signs: "v0:{timestamp}:{id}:{body}!"},
	"bearer":   {Kind: api.ProofBearer},
	"header":   {Kind: api.ProofBearer, Header: "X-Token"},
	"basic":    {Kind: api.ProofBasic, User: "pilots"},
}

// What is signed is proved by either of two secrets, and by nothing else: not by another secret, body, id
// or time, nor without its headers.
func TestProofs(t *testing.T) {
	old, next := []byte("salt marsh"), []byte("north quay")
	body := []byte(`{"ship":"heron"}`)
	for name, p := range proofs {
		t.Run(name, func(t *testing.T) {
			p = good(p)
			sent := http.Header{}
			Sign(p, old, sent, "arr-1", body, now)
			check := func(h http.Header, id string, body []byte, at time.Time, secrets ...[]byte) string {
				return Check(p, secrets, h, id, body, at)
			}
			assert.Empty(t, check(sent, "arr-1", body, now, old))
			assert.Empty(t, check(sent, "arr-1", body, now, next, old), "while the secret is replaced")
			assert.Equal(t, api.RefusedSignature, check(sent, "arr-1", body, now, next))
			assert.Equal(t, api.RefusedUnproved, check(http.Header{}, "arr-1", body, now, old))
			for i := range sent { // whatever byte of the headers is another
				for at := range sent[i][0] {
					h := sent.Clone()
					h[i][0] = h[i][0][:at] + string(h[i][0][at]^1) + h[i][0][at+1:]
					if h[i][0] != strings.ToLower(sent[i][0]) { // hexadecimal digits in capitals, and names of schemes
						assert.NotEmpty(t, check(h, "arr-1", body, now, old), "%s: %s", i, h[i][0])
					}
				}
			}
			if p.Kind == api.ProofBearer || p.Kind == api.ProofBasic {
				return
			}
			for at := range body {
				changed := []byte(string(body))
				changed[at] ^= 1
				assert.Equal(t, api.RefusedSignature, check(sent, "arr-1", changed, now, old), "%s", changed)
			}
			assert.Equal(t, api.RefusedSignature, check(sent, "arr-1", append(body, ' '), now, old))
			if strings.Contains(p.Signs, "{id}") {
				assert.Equal(t, api.RefusedSignature, check(sent, "arr-2", body, now, old))
			}
			if p.Tolerance > 0 {
				for _, away := range []time.Duration{-time.Hour, -301 * time.Second, 301 * time.Second, time.Hour} {
					assert.Equal(t, api.RefusedTimestamp, check(sent, "arr-1", body, now.Add(away), old), away)
				}
				assert.Empty(t, check(sent, "arr-1", body, now.Add(-299*time.Second), old))
			}
		})
	}
}

// The example of the specification of Standard Webhooks, signed as it says.
func TestStandardExample(t *testing.T) {
	h, p := http.Header{}, good(api.Proof{Kind: api.ProofStandard})
	secret := []byte("whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw")
	body := []byte(`{"test": 2432232314}`)
	at := time.Unix(1_614_265_330, 0)
	Sign(p, secret, h, "msg_p5jXN8AQM9LWM0D4loKWxJek", body, at)
	assert.Equal(t, "v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE=", h.Get("webhook-signature"))
	h.Set("webhook-signature", "v1a,bm9uZQ== v1,bm9uZQ== "+h.Get("webhook-signature"))
	assert.Empty(t, Check(p, [][]byte{secret}, h, "msg_p5jXN8AQM9LWM0D4loKWxJek", body, at), "one of several signatures is enough")
	for _, wrong := range []string{"", "-5", "1e9", "9999999999999999999", "1614265330.5"} {
		h.Set("webhook-timestamp", wrong)
		Sign(p, secret, h, "m", body, at)
		signature := h.Get("webhook-signature")
		h.Set("webhook-timestamp", wrong)
		assert.NotEmpty(t, Check(p, [][]byte{secret}, h, "m", body, at), "%q signed as %s", wrong, signature)
	}
}

// A header with many signatures is not looked through for ever.
func TestManySignatures(t *testing.T) {
	h, p := http.Header{}, good(proofs["pairs"])
	Sign(p, []byte("salt"), h, "", []byte("x"), now)
	h.Set("X-Seal", "t="+fmt.Sprint(now.Unix())+strings.Repeat(",v1=00", mostSignatures)+","+h.Get("X-Seal"))
	assert.Equal(t, api.RefusedSignature, Check(p, [][]byte{[]byte("salt")}, h, "", []byte("x"), now))
	assert.Equal(t, job.Duration(5*time.Minute), p.Tolerance)
}
