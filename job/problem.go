package job

import (
	"fmt"
	"strings"

	"humblemule.example/internal/check"
)

// Kind groups problems by what the caller can do about them.
type Kind string

// The kinds of problems.
const (
	// Malformed: the request cannot be read at all.
	Malformed Kind = "malformed"
	// Invalid: it can be read and holds a wrong value.
	Invalid Kind = "invalid"
	// NotFound: there is no such thing.
	NotFound Kind = "not_found"
	// WrongState: the thing is there, and in a state that does not allow it.
	WrongState Kind = "wrong_state"
	// WouldRemove: it would remove jobs that are kept now, and was not said to be meant so.
	WouldRemove Kind = "would_remove"
	// Outdated: the thing was changed since it was read.
	Outdated Kind = "outdated"
	// TooLarge: the request has too many bytes.
	TooLarge Kind = "too_large"
	// WrongMediaType: the body's Content-Type is not one that is read here.
	WrongMediaType Kind = "wrong_media_type"
	// Unauthenticated: the service asks for a token, and there is no good one.
	Unauthenticated Kind = "unauthenticated"
	// Forbidden: the request comes from where, or from whom, it must not.
	Forbidden Kind = "forbidden"
	// Busy: try again later; nothing was changed.
	Busy Kind = "busy"
	// QueueFull: as many jobs wait in the queue as it takes; nothing was changed.
	QueueFull Kind = "queue_full"
	// NoSpace: the disk is full, or nearly so; nothing was changed.
	NoSpace Kind = "no_space"
	// Uncertain: the disk failed; whether the call took effect is not known. The same call
	// under the same Idempotency-Key brings the truth.
	Uncertain Kind = "uncertain"
	// Broken: the service cannot do its work; nothing was acknowledged.
	Broken Kind = "broken"
)

// Title is a kind in a few words, as the title of a problem (RFC 9457).
func (k Kind) Title() string { return titles[k] }

var titles = map[Kind]string{
	Malformed: "Malformed request", Invalid: "Invalid value", NotFound: "Not found", WrongState: "Wrong state", WouldRemove: "Would remove jobs",
	Outdated: "Precondition failed", TooLarge: "Request too large", WrongMediaType: "Unsupported media type", Unauthenticated: "Authentication required",
	Forbidden: "Forbidden", Busy: "Service busy", QueueFull: "Queue full", NoSpace: "Disk full", Uncertain: "Outcome unknown", Broken: "Internal error",
}

// Problem is an error that says what happened and names the fields at fault.
type Problem struct {
	Kind   Kind
	Detail string
	Fields []FieldError
}

// Is tells errors.Is that a problem is one of the errors below, by its kind.
func (p *Problem) Is(target error) bool {
	kind, is := target.(*kindError)
	return is && kind.Kind == p.Kind
}

// kindError stands for all problems of a kind.
type kindError struct{ Kind }

func (e *kindError) Error() string { return strings.ReplaceAll(string(e.Kind), "_", " ") }

// The problems as errors.Is tells them; each stands for all problems of its kind.
var (
	ErrMalformed       error = &kindError{Malformed}
	ErrInvalid         error = &kindError{Invalid}
	ErrNotFound        error = &kindError{NotFound}
	ErrWrongState      error = &kindError{WrongState}
	ErrWouldRemove     error = &kindError{WouldRemove}
	ErrOutdated        error = &kindError{Outdated}
	ErrTooLarge        error = &kindError{TooLarge}
	ErrWrongMediaType  error = &kindError{WrongMediaType}
	ErrUnauthenticated error = &kindError{Unauthenticated}
	ErrForbidden       error = &kindError{Forbidden}
	ErrBusy            error = &kindError{Busy}
	ErrQueueFull       error = &kindError{QueueFull}
	ErrNoSpace         error = &kindError{NoSpace}
	ErrUncertain       error = &kindError{Uncertain}
	ErrBroken          error = &kindError{Broken}
)

// Error writes the detail and every field on one line.
func (p *Problem) Error() string {
	if len(p.Fields) == 0 {
		return p.Detail
	}
	lines := make([]string, len(p.Fields))
	for i, f := range p.Fields {
		lines[i] = f.Field + " " + f.Message
	}
	return p.Detail + ": " + strings.Join(lines, "; ")
}

// FieldError names a field that holds a wrong value, and the mend.
type FieldError = check.FieldError

// Fault makes a problem of a kind, with its sentence.
func Fault(kind Kind, format string, args ...any) *Problem {
	return &Problem{Kind: kind, Detail: fmt.Sprintf(format, args...)}
}

// Wrong makes an invalid-value problem of field errors; nil where there are
// none.
func Wrong(detail string, fields []FieldError) error {
	if len(fields) == 0 {
		return nil
	}
	return &Problem{Kind: Invalid, Detail: detail, Fields: fields}
}

// Warning tells of something that is allowed and likely not meant, or that will not go as
// one may expect.
type Warning struct {
	// Code is one of a closed list, for programs.
	Code string `json:"code"`
	// Message is a sentence that says what will happen, and what to do.
	Message string `json:"message"`
}

// The codes of warnings.
const (
	WarnNoLimit        = "no_attempt_limit"
	WarnRunsMeet       = "missed_runs_meet"
	WarnZone           = "zone_not_given"
	WarnFromFile       = "set_by_file"
	WarnQueueUnserved  = "queue_unserved"
	WarnTaskUndone     = "task_undone"
	WarnWorkDone       = "work_was_done"
	WarnOneAttemptFits = "one_attempt_fits"
	WarnNoID           = "no_delivery_id"
	WarnUnproved       = "sender_unproved"
)
