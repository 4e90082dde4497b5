// Package shell makes handlers of shell commands, for work that is not written in
// Go. One process is started for each attempt:
//
//   - standard input is the payload, as JSON;
//
//   - HMULE_JOB_ID, HMULE_ATTEMPT, HMULE_TASK and HMULE_QUEUE say what runs, and
//     TRACEPARENT carries its W3C trace context;
//
//   - what it writes is kept as the attempt's log; the last line of standard
//     output, where it is JSON, is the job's result;
//
//   - a line of standard output that begins with "@hmule " tells something:
//
//     @hmule progress 40 charts are drawn
//     @hmule label berth berth-3
//     @hmule enqueue {"task":"notice.publish","payload":{"berth":3}}
//     @hmule skip the ship has sailed
//     @hmule postpone 10m
//     @hmule retry_in 30s
//
// Exit status 0 is done (or skipped or postponed, if it said so); 65 (EX_DATAERR
// of sysexits.h) gives the job up; all others fail the attempt, 126 and 127 too, with
// which a shell says that a command cannot run: a payload may bring that about. A last
// line that is not JSON stays a line of the log, and JSON that is too long to be kept is
// replaced by a note that says so. A follow-up that is refused leaves the job dead with
// what it brought, since its work is done. When the job is cancelled, its time is up or
// the pool ends, the whole process group gets SIGTERM, and SIGKILL a little later.
package shell

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/text"
	"humblemule.example/job"
	"humblemule.example/worker"
)

// KillAfter is how long a process group has to end after SIGTERM.
const KillAfter = 3 * time.Second

// Handle makes a command, which the shell runs, the handler of a task: /bin/sh, or cmd on
// Windows.
func Handle(p *worker.Pool, task, command string) {
	worker.Handle(p, task, func(ctx context.Context, payload json.RawMessage) (json.RawMessage, error) {
		return run(ctx, command, payload)
	})
}

const (
	statusGiveUp     = 65 // the exit status that means more than failure
	longestErrorTail = 4 << 10
)

// plain is a command's first word where the shell would read it as it stands.
var plain = regexp.MustCompile(`^\s*([A-Za-z0-9_./+-]+)(?:\s|$)`)

// Check tells whether a command can be found, as far as its first word tells: the error
// names what is not there.
func Check(command string) error {
	word := plain.FindStringSubmatch(command)
	if word == nil {
		return nil
	}
	if !found(word[1]) {
		return fmt.Errorf("the command %s is not found", word[1])
	}
	return nil
}

// failed is an attempt whose command has failed.
type failed struct {
	how  string
	last string // what it wrote last to standard error
}

func (f *failed) Error() string {
	if f.last == "" {
		return f.how
	}
	return f.how + ": " + f.last
}

// ErrorType is the type under which the attempt is kept.
func (f *failed) ErrorType() string { return "command" }

func run(ctx context.Context, command string, payload json.RawMessage) (json.RawMessage, error) {
	j := worker.Job(ctx)
	out := &output{job: j}
	stdout := &lines{each: out.line}
	stderr := &lines{each: out.complain}
	name, args := shell(command)
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = bytes.NewReader(payload), stdout, stderr
	cmd.Env = append(os.Environ(), "HMULE_JOB_ID="+strconv.FormatInt(j.ID, 10), "HMULE_ATTEMPT="+strconv.Itoa(j.Attempt), "HMULE_TASK="+j.Task, "HMULE_QUEUE="+j.Queue)
	if j.Traceparent != "" {
		cmd.Env = append(cmd.Env, "TRACEPARENT="+j.Traceparent)
	}
	err := runGroup(cmd, command, func(unbound error) { j.Log("processes that the command starts cannot be ended with it: %v", unbound) })
	stdout.end()
	stderr.end()
	if errors.Is(err, exec.ErrWaitDelay) {
		j.Log("a process that the command left running keeps its output open; the output is no longer read")
		err = nil
	}
	if ctx.Err() != nil && err != nil {
		return nil, context.Cause(ctx)
	}
	return out.outcome(err)
}

// runGroup runs a command with all that it starts; they are ended when its context does.
func runGroup(cmd *exec.Cmd, command string, unbound func(error)) error {
	group := groupOf(cmd, command)
	defer group.close()
	var kill *time.Timer
	cmd.Cancel = func() error {
		kill = time.AfterFunc(KillAfter, group.kill)
		return group.end()
	}
	cmd.WaitDelay = KillAfter + time.Second
	err := cmd.Start()
	if err == nil {
		if err := group.started(); err != nil {
			unbound(err)
		}
		err = cmd.Wait()
	}
	if kill != nil && kill.Stop() {
		group.kill() // what of the group has outlived its first process
	}
	return err
}

// Once runs a command once, and answers why it has failed, with what it wrote last to standard error.
func Once(ctx context.Context, command string, stdin []byte, env []string) error {
	var last string
	stderr := &lines{each: func(line string, _ int) {
		if strings.TrimSpace(line) != "" {
			last = text.Cut(line, longestErrorTail)
		}
	}}
	name, args := shell(command)
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Stdin, cmd.Stderr, cmd.Env = bytes.NewReader(stdin), stderr, append(os.Environ(), env...)
	err := runGroup(cmd, command, func(error) {})
	stderr.end()
	var exit *exec.ExitError
	switch {
	case err == nil, errors.Is(err, exec.ErrWaitDelay):
		return nil
	case ctx.Err() != nil:
		return context.Cause(ctx)
	case errors.As(err, &exit):
		return &failed{how: exit.String(), last: last}
	}
	return fmt.Errorf("the command could not be started: %w", err)
}

// Program runs a command that goes on, such as a worker of somebody's own, until ctx ends: then it
// and all that it has started are asked to end, and are ended after [KillAfter].
func Program(ctx context.Context, command string, env []string, to io.Writer) error {
	name, args := shell(command)
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Env, cmd.Stdout, cmd.Stderr = append(os.Environ(), env...), to, to
	err := runGroup(cmd, command, func(error) {})
	if ctx.Err() != nil {
		return nil
	}
	return err
}

// output is what a command has told.
type output struct {
	job *worker.Running

	mu       sync.Mutex
	held     string // the last line of standard output, perhaps the result
	size     int    // of that line in bytes, with what was cut off
	holds    bool
	last     string        // of standard error
	decision error         // of an attempt that ends well
	retryIn  time.Duration // of one that fails
}

// sign begins a line that tells something.
const sign = "@hmule "

// line takes a line of standard output.
func (o *output) line(text string, size int) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if told, yes := strings.CutPrefix(text, sign); yes {
		if err := o.told(told); err != nil {
			o.job.Log("not understood: %s (%v)", text, err)
		}
		return
	}
	if o.holds {
		o.job.Log("%s", o.held)
	}
	o.held, o.size, o.holds = text, size, true
}

// complain takes a line of standard error.
func (o *output) complain(line string, _ int) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.job.Log("%s", line)
	if strings.TrimSpace(line) != "" {
		o.last = text.Cut(line, longestErrorTail)
	}
}

func (o *output) told(text string) error {
	verb, rest, _ := strings.Cut(strings.TrimSpace(text), " ")
	rest = strings.TrimSpace(rest)
	switch verb {
	case "progress":
		number, note, _ := strings.Cut(rest, " ")
		percent, err := strconv.ParseFloat(strings.TrimSuffix(number, "%"), 64)
		if err != nil || percent < 0 || percent > 100 {
			return fmt.Errorf("progress needs a number from 0 to 100")
		}
		o.job.Progress(percent, note)
	case "label":
		name, value, _ := strings.Cut(rest, " ")
		return o.job.Label(name, value)
	case "enqueue":
		return o.enqueue(rest)
	case "skip":
		if rest == "" {
			return fmt.Errorf("skip needs a reason")
		}
		o.decision = worker.Skip(rest)
	case "postpone", "retry_in":
		d, err := job.ParseDuration(rest)
		if err != nil {
			return err
		}
		if verb == "retry_in" {
			o.retryIn = d.Go()
		} else {
			o.decision = worker.Postpone(d.Go())
		}
	default:
		return fmt.Errorf("it is one of progress, label, enqueue, skip, postpone, retry_in")
	}
	return nil
}

func (o *output) enqueue(text string) error {
	return o.job.FollowUpJSON([]byte(text))
}

// outcome says how the attempt has ended.
func (o *output) outcome(err error) (json.RawMessage, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	var result json.RawMessage
	if o.holds {
		switch why := api.ResultFault([]byte(o.held)); {
		case err == nil && why == "":
			result = json.RawMessage(o.held)
		case err == nil && looksLikeJSON(o.held) && (o.size > api.MaxResultBytes || json.Valid([]byte(o.held))):
			if o.size > api.MaxResultBytes {
				why = api.ResultTooLong(o.size)
			}
			result = api.DropResult(o.size, why)
			o.job.Log("the result was not kept: it %s", why)
		default:
			o.job.Log("%s", o.held)
		}
	}
	var exit *exec.ExitError
	switch {
	case err == nil:
		return result, o.decision
	case !errors.As(err, &exit):
		return nil, fmt.Errorf("the command could not be started: %w", err)
	}
	failure := &failed{how: exit.String(), last: o.last}
	if exit.ExitCode() == statusGiveUp {
		return nil, worker.GiveUp(failure)
	}
	return nil, worker.RetryIn(o.retryIn, failure)
}

// looksLikeJSON tells whether a line begins and ends as a JSON value of many bytes does.
func looksLikeJSON(line string) bool {
	line = strings.TrimSpace(line)
	return line != "" && strings.ContainsRune(`{["`, rune(line[0]))
}

// lines splits what is written to it into lines.
type lines struct {
	each func(text string, size int)
	part []byte
	size int // of the line so far, with what is left out
}

// longestLine is how much of a line is read; the rest of it is left out. It holds
// the longest result.
const longestLine = api.MaxResultBytes + 1

// Write is io.Writer's.
func (l *lines) Write(b []byte) (int, error) {
	n := len(b)
	for {
		line, rest, whole := bytes.Cut(b, []byte("\n"))
		l.size += len(line)
		if room := longestLine - len(l.part); room > 0 {
			l.part = append(l.part, line[:min(len(line), room)]...)
		}
		if !whole {
			return n, nil
		}
		l.flush()
		b = rest
	}
}

func (l *lines) flush() {
	l.each(strings.ToValidUTF8(strings.TrimSuffix(string(l.part), "\r"), "\uFFFD"), l.size)
	l.part, l.size = l.part[:0], 0
}

// end takes a last line without an end.
func (l *lines) end() {
	if len(l.part) > 0 {
		l.flush()
	}
}
