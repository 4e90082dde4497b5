package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"regexp"
	"strconv"
	"strings"
	"time"

	"humblemule.example/job"
)

// jobID reads the id of a job.
func jobID(text string) (int64, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil || id < 1 || strconv.FormatInt(id, 10) != text {
		return 0, usageError{fmt.Errorf("%q is not a valid id of a job; an id is a whole number, as hmule job list shows it", text)}
	}
	return id, nil
}

// operationID reads the number of an operation.
func operationID(text string) (int64, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil || id < 1 {
		return 0, usageError{fmt.Errorf("%q is not the number of an operation, as hmule operation list shows it", text)}
	}
	return id, nil
}

// contentOf reads an argument that may be @FILE, or - for standard input.
func contentOf(text string, stdin io.Reader) ([]byte, error) {
	switch {
	case text == "-":
		return io.ReadAll(stdin)
	case strings.HasPrefix(text, "@"):
		return os.ReadFile(text[1:])
	}
	return []byte(text), nil
}

// payloadOf reads a payload from an argument: JSON, @FILE, or - for standard input.
func payloadOf(text string, stdin io.Reader) (json.RawMessage, error) {
	raw, err := contentOf(text, stdin)
	if err != nil {
		return nil, usageError{fmt.Errorf("the payload cannot be read: %w", err)}
	}
	if !json.Valid(raw) {
		return nil, usageError{fmt.Errorf("the payload is not valid JSON; put a text in quotes, as in '\"berth-3\"', or give @FILE")}
	}
	return raw, nil
}

// readInto reads a flag's text into a value that knows how to read itself.
func readInto(flag, text string, v interface{ UnmarshalText([]byte) error }) error {
	if text == "" {
		return nil
	}
	if err := v.UnmarshalText([]byte(text)); err != nil {
		return usageError{fmt.Errorf("--%s: %w", flag, err)}
	}
	return nil
}

// readJSON reads a flag's JSON strictly.
func readJSON(flag, text string, v any) error {
	d := json.NewDecoder(strings.NewReader(text))
	d.DisallowUnknownFields()
	if err := d.Decode(v); err != nil {
		return usageError{fmt.Errorf("--%s %q cannot be read: %w", flag, text, err)}
	}
	return nil
}

// direction is where a time lies that is given without its day, or as a span from now.
type direction int

const (
	before direction = -1 // as of a list
	ahead  direction = 1  // as of a start
)

// timeOf reads a time as people write it: RFC 3339, a day, a time of the day, a span from
// now, or now, today, yesterday, tomorrow, in the zone of this machine.
func timeOf(flag, text string, now time.Time, towards direction) (job.Time, error) {
	if text == "" {
		return 0, nil
	}
	if at, ok := namedTime(text, now); ok {
		return job.At(at), nil
	}
	if at, ok := timeOfDay(text, now, towards); ok {
		return job.At(at), nil
	}
	for _, layout := range []string{"2006-01-02", "2006-01-02 15:04", "2006-01-02 15:04:05"} {
		if at, err := time.ParseInLocation(layout, text, now.Location()); err == nil {
			return job.At(at), nil
		}
	}
	if d, err := job.ParseDuration(text); err == nil {
		return job.At(now.Add(time.Duration(towards) * d.Go())), nil
	}
	var t job.Time
	if err := t.UnmarshalText([]byte(text)); err == nil {
		return t, nil
	}
	return 0, usageError{fmt.Errorf("--%s: %q is not a time; write 2026-11-23T06:00:00Z, 2026-11-23, 09:00, yesterday, or a span such as 1h", flag, text)}
}

func namedTime(text string, now time.Time) (time.Time, bool) {
	midnight := time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, now.Location())
	switch text {
	case "now":
		return now, true
	case "today":
		return midnight, true
	case "yesterday":
		return midnight.AddDate(0, 0, -1), true
	case "tomorrow":
		return midnight.AddDate(0, 0, 1), true
	}
	return time.Time{}, false
}

// timeOfDay reads 09:00 as the last or the next such time.
func timeOfDay(text string, now time.Time, towards direction) (time.Time, bool) {
	for _, layout := range []string{"15:04", "15:04:05"} {
		clock, err := time.Parse(layout, text)
		if err != nil {
			continue
		}
		at := time.Date(now.Year(), now.Month(), now.Day(), clock.Hour(), clock.Minute(), clock.Second(), 0, now.Location())
		if towards == before && at.After(now) || towards == ahead && !at.After(now) {
			at = at.AddDate(0, 0, int(towards))
		}
		return at, true
	}
	return time.Time{}, false
}

// assignment is a part of a change: NAME=VALUE, where a dot in the name goes into an object.
var assignment = regexp.MustCompile(`^([a-z_][A-Za-z0-9_.-]*)=(.*)$`)

// changeOf makes a merge patch (RFC 7396) of assignments and of names that are unset.
func changeOf(assignments, unset []string, stdin io.Reader) (map[string]any, error) {
	change := map[string]any{}
	var wrong []error
	for _, text := range assignments {
		parts := assignment.FindStringSubmatch(text)
		if parts == nil {
			wrong = append(wrong, usageError{fmt.Errorf("%q is not NAME=VALUE, such as priority=7", text)})
			continue
		}
		value, err := valueOf(parts[2], stdin)
		if err == nil {
			err = put(change, parts[1], value)
		}
		wrong = append(wrong, err)
	}
	for _, name := range unset {
		wrong = append(wrong, put(change, name, nil))
	}
	if err := errors.Join(wrong...); err != nil {
		return nil, err
	}
	if len(change) == 0 {
		return nil, usageError{errors.New("nothing to change is named; write NAME=VALUE, such as priority=7, or --unset NAME")}
	}
	return change, nil
}

// valueOf reads a value: JSON where it is JSON, and else a text.
func valueOf(text string, stdin io.Reader) (any, error) {
	raw := []byte(text)
	if strings.HasPrefix(text, "@") || text == "-" {
		var err error
		if raw, err = contentOf(text, stdin); err != nil {
			return nil, usageError{err}
		}
	}
	if json.Valid(raw) {
		return json.RawMessage(raw), nil
	}
	return string(raw), nil
}

// put sets a value in an object, by a name whose dots go into objects.
func put(into map[string]any, name string, value any) error {
	first, rest, deeper := strings.Cut(name, ".")
	if !deeper {
		into[first] = value
		return nil
	}
	inner, is := into[first].(map[string]any)
	if !is {
		if into[first] != nil {
			return usageError{fmt.Errorf("%s is set as a whole and in part; give one of the two", first)}
		}
		inner = map[string]any{}
		into[first] = inner
	}
	return put(inner, rest, value)
}
