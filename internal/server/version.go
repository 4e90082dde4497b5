package server

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"
	"github.com/go-json-experiment/json"

	"humblemule.example/api"
	"humblemule.example/internal/core/engine"
	"humblemule.example/internal/mergepatch"
	"humblemule.example/job"
)

// versioned answers a thing with its version as its entity tag (RFC 9110, section 8.8.3).
func versioned[T any](c *gin.Context, version func(T) int64, v T, err error) (any, error) {
	if err == nil {
		c.Header("ETag", tagOf(version(v)))
	}
	return v, err
}

func tagOf(version int64) string { return strconv.Quote(strconv.FormatInt(version, 10)) }

func jobVersion(j job.Job) int64                 { return j.Version }
func queueVersion(q api.Queue) int64             { return q.Version }
func taskVersion(t api.Task) int64               { return t.Version }
func scheduleVersion(s api.ScheduleStatus) int64 { return s.Version }
func hookVersion(h api.HookStatus) int64         { return h.Version }

// conditional tells whether a request is to take effect only under a condition.
func conditional(c *gin.Context) bool {
	return c.GetHeader("If-Match") != "" || c.GetHeader("If-None-Match") != ""
}

// conditionOf reads If-Match and If-None-Match.
func conditionOf(c *gin.Context) (is engine.Condition, err error) {
	switch tags := c.GetHeader("If-Match"); tags {
	case "":
	case "*":
		is.There = true
	default:
		is.Versions = []int64{}
		for tag := range strings.SplitSeq(tags, ",") {
			tag = strings.TrimSpace(tag)
			version, err := strconv.ParseInt(strings.Trim(tag, `"`), 10, 64)
			if err != nil || tag != tagOf(version) {
				return is, job.Fault(job.Outdated, "If-Match %s is not an entity tag of this service; send the ETag that you read, nothing was changed", tag)
			}
			is.Versions = append(is.Versions, version)
		}
	}
	switch tag := c.GetHeader("If-None-Match"); tag {
	case "":
	case "*":
		is.New = true
	default:
		return is, job.Wrong("nothing was changed", []job.FieldError{{Field: "If-None-Match", Message: fmt.Sprintf("is %q; a change can be asked for with * only: where there is nothing yet", tag)}})
	}
	return is, nil
}

// patching is how what was set for a thing is edited by a merge patch (RFC 7396).
type patching[T any] struct {
	// get reads what is set, with its version; there tells whether the thing is there.
	get func(ctx context.Context) (is T, version int64, there bool, err error)
	// read reads it strictly.
	read func(raw []byte, v *T) error
	set  func(ctx context.Context, v T) error
}

// mostTries bounds how often a patch is tried while others change the same thing.
const mostTries = 100

// do reads the patch and sets what it makes of what is set. It takes effect only on the
// version that was read, and is tried again on the next one unless the request names a
// condition itself.
func (p patching[T]) do(c *gin.Context) error {
	if _, err := mediaType(c, mediaPatch, mediaJSON); err != nil {
		return err
	}
	patch, err := body(c)
	if err != nil {
		return err
	}
	var given T
	if err := p.read(patch, &given); err != nil {
		return err
	}
	call, err := callOf(c, engine.Call{Body: patch})
	if err != nil {
		return err
	}
	asked := conditional(c)
	for tries := 1; ; tries++ {
		is, version, there, err := p.get(c.Request.Context())
		if err != nil {
			return err
		}
		if !asked {
			call.If = engine.Condition{New: !there}
			if there {
				call.If.Versions = []int64{version}
			}
		}
		edited, err := p.edit(is, patch)
		if err == nil {
			err = p.set(engine.WithCall(c.Request.Context(), call), edited)
		}
		var outdated *job.Problem
		if asked || tries == mostTries || !errors.As(err, &outdated) || outdated.Kind != job.Outdated {
			return err
		}
	}
}

// edit applies a merge patch to what is set.
func (p patching[T]) edit(is T, patch []byte) (edited T, err error) {
	raw, err := json.Marshal(is, out)
	if err != nil {
		return edited, err
	}
	if raw, err = mergepatch.Apply(raw, patch); err != nil {
		return edited, job.Fault(job.Malformed, "%v; nothing was done", err)
	}
	return edited, p.read(raw, &edited)
}
