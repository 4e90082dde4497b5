package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/job"
)

// arrives is a delivery with headers.
func arrives(media, body string, headers ...string) Arrived {
	return Arrived{MediaType: media, Body: []byte(body), Header: func(name string) string {
		for i := 0; i+1 < len(headers); i += 2 {
			if strings.EqualFold(headers[i], name) {
				return headers[i+1]
			}
		}
		return ""
	}}
}

func (y *yard) hook(name string, h api.Hook) {
	y.Helper()
	require.NoError(y, y.e.SetHook(context.Background(), name, h))
}

func (y *yard) receive(name string, a Arrived) api.Received {
	y.Helper()
	told, err := y.e.Receive(context.Background(), name, a)
	require.NoError(y, err)
	return told
}

var unproved = api.Proof{Kind: api.ProofNone}

// A delivery becomes one job, whatever restarts and changes of the hook come between it and the next with
// its id, for thirty days.
func TestDeliveries(t *testing.T) {
	inYard(t, func(y *yard) {
		arrivals := api.Hook{Task: "manifest.check", IDFrom: &api.Taken{Header: "webhook-id"}, Owner: &api.Taken{Pointer: "/agent"}, Lane: &api.Taken{Pointer: "/berth/n"}, Proof: unproved}
		y.hook("arrivals", arrivals)
		first := y.receive("arrivals", arrives("application/json", ` {"agent":"Heron & Sons","berth":{"n":3}} `, "Webhook-Id", "arr-1"))
		assert.Equal(t, api.Received{Job: 1}, first)
		j := y.job(1)
		assert.Equal(t, []string{`{"agent":"Heron & Sons","berth":{"n":3}}`, "Heron & Sons", "3", "arr-1", "arrivals"}, []string{string(j.Payload), j.Owner, j.Lane, j.Key, j.Labels["hook"]})

		same := arrives("application/json", ` {"agent":"Heron & Sons","berth":{"n":3}} `, "Webhook-Id", "arr-1")
		other := arrives("application/json", `{"agent":"Tern"}`, "Webhook-Id", "arr-1")
		assert.Equal(t, api.Received{Job: 1, Repeated: true}, y.receive("arrivals", same))
		assert.Equal(t, api.Received{Job: 1, Repeated: true, Differs: true}, y.receive("arrivals", other))
		y.work() // whatever becomes of it
		require.NoError(t, y.e.Close())
		y.open()
		arrivals.Task = "berth.plan"
		y.hook("arrivals", arrivals)
		assert.Equal(t, api.Received{Job: 1, Repeated: true}, y.receive("arrivals", same))
		require.NoError(t, y.e.DeleteHook(context.Background(), "arrivals"))
		y.hook("arrivals", arrivals)
		assert.Equal(t, api.Received{Job: 1, Repeated: true}, y.receive("arrivals", same), "its deliveries outlive a hook")
		y.hook("departures", arrivals)
		assert.Equal(t, api.Received{Job: 2}, y.receive("departures", same), "an id is that of a hook")

		later := func(d time.Duration) {
			require.NoError(t, y.e.Close())
			var err error
			y.e, err = Open(y.path, Options{LookEvery: unwatched, Log: silent, Wall: func() time.Time { return time.Now().Add(d) }})
			require.NoError(t, err)
		}
		later(30*24*time.Hour - time.Hour)
		assert.Equal(t, int64(1), y.receive("arrivals", same).Job)
		later(30*24*time.Hour + time.Minute)
		assert.False(t, y.receive("arrivals", same).Repeated, "after thirty days")
		deliveries, err := y.e.Deliveries(context.Background(), "arrivals", 0, 10)
		require.NoError(t, err)
		assert.Equal(t, job.Held, deliveries[0].State, "by its lane")
		assert.Equal(t, "arr-1", deliveries[0].ID)
		later(61 * 24 * time.Hour)
		time.Sleep(11 * time.Minute)
		deliveries, err = y.e.Deliveries(context.Background(), "arrivals", 0, 10)
		require.NoError(t, err)
		assert.Empty(t, deliveries, "and then they are forgotten")
		memoryAgrees(t, y.e)
	})
}

// What is delivered is kept as it came, of whatever form it is.
func TestDelivered(t *testing.T) {
	text := func(media, s string) string {
		return fmt.Sprintf(`{"media_type":%s,"text":%s}`, job.JSON(media), job.JSON(s))
	}
	inYard(t, func(y *yard) {
		for i, c := range []struct {
			hook            api.Hook
			media, body     string
			payload         string
			owner, lane, id string
		}{
			{media: "application/json", body: `{"a": 12345678901234567890, "b":"é"}`, payload: `{"a": 12345678901234567890, "b":"é"}`},
			{media: "application/cloudevents+json; charset=utf-8", body: `[1,2]`, payload: `[1,2]`},
			{media: "", body: `"x"`, payload: `"x"`},
			{media: "", body: "", payload: text("", "")},
			{media: "text/plain", body: "fog", payload: text("text/plain", "fog")},
			{media: "application/json", body: `{"a":1,"a":2}`, payload: text("application/json", `{"a":1,"a":2}`)},
			{media: "application/json", body: `{"a":`, payload: text("application/json", `{"a":`)},
			{media: "image/png", body: "\x89PNG\xff", payload: `{"media_type":"image/png","base64":"iVBOR/8="}`},
			{hook: api.Hook{KeepHeaders: []string{"X-Event", "x-none"}}, media: "application/json", body: `{"a": "<&>"}`, payload: `{"headers":{"x-event":"<moor>"},"body":{"a": "<&>"}}`},
			{hook: api.Hook{KeepHeaders: []string{"X-Event"}}, media: "text/plain", body: "a", payload: `{"headers":{"x-event":"<moor>"},"media_type":"text/plain","text":"a"}`},
			{hook: api.Hook{Owner: &api.Taken{Pointer: "/o"}, Lane: &api.Taken{Value: "quay"}}, body: `{"o":true}`, payload: `{"o":true}`, owner: "true", lane: "quay"},
			{hook: api.Hook{Owner: &api.Taken{Pointer: "/o"}, IDFrom: &api.Taken{Pointer: "/a/0/~1"}}, body: `{"o":null,"a":[{"/":7}]}`, payload: `{"o":null,"a":[{"/":7}]}`, id: "7"},
			{hook: api.Hook{Owner: &api.Taken{Pointer: "/o"}, IDFrom: &api.Taken{Header: "X-Event"}}, body: `{"o":{"a":1}}`, payload: `{"o":{"a":1}}`, id: "<moor>"},
			{hook: api.Hook{IDFrom: &api.Taken{Header: "x-long"}}, body: `1`, payload: `1`, id: strings.Repeat("l", 190) + " … (cut)"},
		} {
			c.hook.Task, c.hook.Proof = "log.pack", unproved
			name := fmt.Sprint("hook-", i)
			y.hook(name, c.hook)
			told := y.receive(name, arrives(c.media, c.body, "x-event", "<moor>", "x-long", strings.Repeat("l", 5000)))
			j := y.job(told.Job)
			assert.Equal(t, []string{c.payload, c.owner, c.lane, c.id}, []string{string(j.Payload), j.Owner, j.Lane, j.Key}, "%d: %s", i, c.body)
		}
		y.hook("long", api.Hook{Task: "log.pack", Owner: &api.Taken{Header: "x-o"}, Proof: unproved})
		for _, odd := range []string{strings.Repeat("o", 201), "a\x1b[31m", "\xff"} {
			j := y.job(y.receive("long", arrives("", "1", "x-o", odd)).Job)
			assert.Regexp(t, "^sha256-[0-9a-f]{64}$", j.Owner, "%q", odd)
		}
		_, err := y.e.Receive(context.Background(), "long", arrives("text/plain", strings.Repeat("\x00", job.MaxPayloadBytes/4)))
		assert.ErrorContains(t, err, "at most 131072 are taken", "a text grows as it is escaped")
		_, err = y.e.Receive(context.Background(), "nowhere", arrives("", "1"))
		assert.ErrorIs(t, err, job.ErrNotFound)
		memoryAgrees(t, y.e)
	})
}

// A full queue and a paused one take deliveries all the same; what is refused is counted, and another job
// can be made of what was taken, once for each call.
func TestHookCounts(t *testing.T) {
	inYard(t, func(y *yard) {
		y.rules("common", api.Rules{MaxWaiting: new(int64(1))})
		require.NoError(t, y.e.PauseQueue(context.Background(), "common"))
		y.hook("arrivals", api.Hook{Task: "manifest.check", IDFrom: &api.Taken{Header: "id"}, Lane: &api.Taken{Value: "one"}, Proof: unproved})
		for i := range 5 {
			y.receive("arrivals", arrives("", fmt.Sprint(i), "id", map[bool]string{true: "a"}[i < 3]))
		}
		at := job.At(time.Now())
		refused := &api.HookCounts{Refused: map[string]int64{api.RefusedSignature: 30}}
		for i := range 30 {
			refused.Refusals = append(refused.Refusals, api.HookRefusal{At: at, Reason: api.RefusedSignature, From: fmt.Sprint("10.0.0.", i)})
		}
		require.NoError(t, y.e.NoteRefusals(context.Background(), map[string]*api.HookCounts{"arrivals": refused, "nowhere": refused}))
		require.NoError(t, y.e.NoteRefusals(context.Background(), map[string]*api.HookCounts{"arrivals": {Refused: map[string]int64{api.RefusedBusy: 1}, Refusals: []api.HookRefusal{{At: at, Reason: api.RefusedBusy}}}}))
		for range 2 { // and after a restart
			h, err := y.e.Hook(context.Background(), "arrivals")
			require.NoError(t, err)
			n := h.Counts
			assert.Equal(t, []int64{3, 2, 2, 2, 31}, []int64{n.Taken, n.Repeated, n.Differing, n.WithoutID, n.NumRefused()})
			assert.Len(t, n.Refusals, 20)
			assert.Equal(t, api.RefusedBusy, n.Refusals[0].Reason, "the latest first")
			require.NoError(t, y.e.Close())
			y.open()
		}

		deliveries, err := y.e.Deliveries(context.Background(), "arrivals", 0, 10)
		require.NoError(t, err)
		first := deliveries[len(deliveries)-1]
		assert.Equal(t, []int64{1, 3, 2}, []int64{first.Job, first.Times, first.Differing})
		call := WithCall(context.Background(), Call{Path: "/again", Key: "k", Principal: "ada"})
		var made []int64
		for range 2 {
			told, err := y.e.SendAgain(call, "arrivals", first.Number)
			require.NoError(t, err)
			made = append(made, told.Job)
		}
		assert.Equal(t, made[0], made[1], "the same call again makes nothing new")
		j := y.job(made[0])
		assert.Equal(t, []string{"0", "a", "one"}, []string{string(j.Payload), j.Key, j.Lane})
		assert.Equal(t, api.Received{Job: 1, Repeated: true}, y.receive("arrivals", arrives("", "0", "id", "a")), "the id stays that of the first")
		_, err = y.e.SendAgain(context.Background(), "arrivals", 99)
		assert.ErrorIs(t, err, job.ErrNotFound)
		require.NoError(t, y.e.ResumeQueue(context.Background(), "common"))
		y.fails = func(string) bool { return false }
		y.work()
		_, err = y.e.Discard(context.Background(), 1)
		require.NoError(t, err)
		_, err = y.e.SendAgain(context.Background(), "arrivals", first.Number)
		assert.ErrorContains(t, err, "no longer kept")
		memoryAgrees(t, y.e)
	})
}

// Whatever comes, at once and again: each id has one job, and the counts add up.
func TestDeliveriesAtOnce(t *testing.T) {
	random := rand.New(rand.NewPCG(19, 19))
	inYard(t, func(y *yard) {
		y.hook("arrivals", api.Hook{Task: "manifest.check", IDFrom: &api.Taken{Pointer: "/id"}, Proof: unproved})
		jobs, bodies := map[string]int64{}, map[string]string{}
		var repeated, differing int64
		for range 20 {
			type answer struct {
				id, body string
				told     api.Received
			}
			answers := make(chan answer)
			n := 1 + random.IntN(30)
			for range n {
				id := fmt.Sprint(random.IntN(100))
				body := fmt.Sprintf(`{"id":"%s","n":%d}`, id, random.IntN(2))
				go func() {
					told, err := y.e.Receive(context.Background(), "arrivals", arrives("", body))
					require.NoError(t, err)
					answers <- answer{id, body, told}
				}()
			}
			var later []answer
			for range n {
				a := <-answers
				if a.told.Repeated {
					later = append(later, a)
					continue
				}
				require.Zero(t, jobs[a.id], a.id)
				jobs[a.id], bodies[a.id] = a.told.Job, a.body
			}
			for _, a := range later {
				repeated++
				if a.told.Differs {
					differing++
				}
				require.Equal(t, jobs[a.id], a.told.Job)
				require.Equal(t, bodies[a.id] != a.body, a.told.Differs)
			}
			if random.IntN(4) == 0 {
				require.NoError(t, y.e.Close())
				y.open()
			}
		}
		h, err := y.e.Hook(context.Background(), "arrivals")
		require.NoError(t, err)
		assert.Equal(t, []int64{int64(len(jobs)), repeated, differing}, []int64{h.Counts.Taken, h.Counts.Repeated, h.Counts.Differing})
		for id, n := range jobs {
			var p struct{ ID string }
			require.NoError(t, json.Unmarshal(y.job(n).Payload, &p))
			assert.Equal(t, id, p.ID)
		}
		memoryAgrees(t, y.e)
	})
}

// A hook that cannot be is refused by the name of each field.
func TestWrongHooks(t *testing.T) {
	inYard(t, func(y *yard) {
		for fields, h := range map[string]api.Hook{
			"task proof.kind":  {},
			"proof.kind":       {Task: "log.pack", Proof: api.Proof{Kind: "trust"}},
			"proof.secrets":    {Task: "log.pack", Proof: api.Proof{Kind: "standard"}},
			"proof.secrets[0]": {Task: "log.pack", Proof: api.Proof{Kind: "standard", Secrets: []string{"pilots"}}},
			"proof.user proof.header proof.algorithm":                 {Task: "log.pack", Proof: api.Proof{Kind: "none", User: "a", Header: "b", Algorithm: "sha256"}},
			"proof.header proof.algorithm proof.encoding proof.signs": {Task: "log.pack", Proof: api.Proof{Kind: "hmac", Algorithm: "md5", Encoding: "octal", Signs: "{timestamp}{body}", Secrets: []string{"a"}}},
			"proof.signs": {Task: "log.pack", Proof: api.Proof{Kind: "hmac", Header: "X-S", Signs: "{body}{x}", Secrets: []string{"a"}}},
			"id_from.value lane keep_headers[0] keep_headers[1]": {Task: "log.pack", IDFrom: &api.Taken{Value: "x"}, Lane: &api.Taken{}, KeepHeaders: []string{"Authorization", "a b"}, Proof: unproved},
			"owner owner.pointer":                                {Task: "log.pack", Owner: &api.Taken{Value: "x", Pointer: "no"}, Proof: unproved},
			"proof.tolerance":                                    {Task: "log.pack", Proof: api.Proof{Kind: "hmac", Header: "X-S", Tolerance: job.Duration(time.Minute), Secrets: []string{"a"}}},
		} {
			err := y.e.SetHook(context.Background(), "h", h)
			var p *job.Problem
			require.ErrorAs(t, err, &p, fields)
			var named []string
			for _, f := range p.Fields {
				if !strings.HasPrefix(f.Message, `"a" is not a secret`) {
					named = append(named, f.Field)
				}
			}
			assert.ElementsMatch(t, strings.Fields(fields), named, "%v", p)
		}
		assert.Error(t, y.e.SetHook(context.Background(), "No Name", api.Hook{Task: "log.pack", Proof: unproved}))
	})
}
