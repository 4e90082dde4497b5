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
// of sysexits.h) gives the job up; 126 and 127, with which a shell says that the
// command cannot run, give the job back and stop the pool; all others fail the
// attempt. When the job is cancelled, its time is up or the pool ends, the whole
// process group gets SIGTERM, and SIGKILL a little later.
package shell

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"humblemule/core/job"
	"humblemule/worker"
)

// KillAfter is how long a process group has to end after SIGTERM.
const KillAfter = 3 * time.Second

// Handle makes a command, which /bin/sh runs, the handler of a task.
func Handle(p *worker.Pool, task, command string) {
	worker.Handle(p, task, func(ctx context.Context, payload json.RawMessage) (json.RawMessage, error) {
		return run(ctx, command, payload)
	})
}

// The exit statuses that mean more than failure.
const (
	statusGiveUp     = 65
	statusNoRun      = 126
	statusNotFound   = 127
	longestErrorTail = 4 << 10
)

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
	cmd := exec.CommandContext(ctx, "/bin/sh", "-c", command)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = bytes.NewReader(payload), stdout, stderr
	cmd.Env = append(os.Environ(), "HMULE_JOB_ID="+strconv.FormatInt(j.ID, 10), "HMULE_ATTEMPT="+strconv.Itoa(j.Attempt), "HMULE_TASK="+j.Task, "HMULE_QUEUE="+j.Queue)
	if j.Traceparent != "" {
		cmd.Env = append(cmd.Env, "TRACEPARENT="+j.Traceparent)
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	var kill *time.Timer
	cmd.Cancel = func() error {
		group := -cmd.Process.Pid
		kill = time.AfterFunc(KillAfter, func() { syscall.Kill(group, syscall.SIGKILL) })
		return syscall.Kill(group, syscall.SIGTERM)
	}
	cmd.WaitDelay = KillAfter + time.Second
	err := cmd.Run()
	if kill != nil && kill.Stop() {
		syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) // what of the group has outlived its first process
	}
	stdout.end()
	stderr.end()
	if errors.Is(err, exec.ErrWaitDelay) {
		j.Log("something that the command left running keeps its output open; it is no longer read")
		err = nil
	}
	if ctx.Err() != nil && err != nil {
		return nil, context.Cause(ctx)
	}
	return out.outcome(err)
}

// output is what a command has told.
type output struct {
	job *worker.Running

	mu       sync.Mutex
	held     string // the last line of standard output, perhaps the result
	holds    bool
	last     string        // of standard error
	decision error         // of an attempt that ends well
	retryIn  time.Duration // of one that fails
}

// sign begins a line that tells something.
const sign = "@hmule "

// line takes a line of standard output.
func (o *output) line(text string) {
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
	o.held, o.holds = text, true
}

// complain takes a line of standard error.
func (o *output) complain(text string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.job.Log("%s", text)
	if strings.TrimSpace(text) != "" {
		o.last = job.Cut(text, longestErrorTail)
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
	decoder := json.NewDecoder(strings.NewReader(text))
	decoder.DisallowUnknownFields()
	var raw struct {
		job.Spec
		Payload json.RawMessage `json:"payload"`
	}
	if err := decoder.Decode(&raw); err != nil {
		return err
	}
	if raw.Payload != nil {
		raw.Spec.Payload = raw.Payload
	}
	return o.job.FollowUp(raw.Spec)
}

// outcome says how the attempt has ended.
func (o *output) outcome(err error) (json.RawMessage, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	var result json.RawMessage
	if o.holds {
		if err == nil && json.Valid([]byte(o.held)) {
			result = json.RawMessage(o.held)
		} else {
			o.job.Log("%s", o.held)
		}
	}
	var exit *exec.ExitError
	switch {
	case err == nil:
		return result, o.decision
	case !errors.As(err, &exit):
		return nil, worker.StopPool(fmt.Errorf("the command cannot be started: %w", err))
	}
	failure := &failed{how: exit.String(), last: o.last}
	switch exit.ExitCode() {
	case statusGiveUp:
		return nil, worker.GiveUp(failure)
	case statusNoRun, statusNotFound:
		return nil, worker.StopPool(fmt.Errorf("the command cannot run here: %w", failure))
	}
	return nil, worker.RetryIn(o.retryIn, failure)
}

// lines splits what is written to it into lines.
type lines struct {
	each func(string)
	part []byte
}

// longestLine is how much of a line is read; the rest of it is left out. It holds
// the longest result.
const longestLine = job.MaxResultBytes + 1

// Write is io.Writer's.
func (l *lines) Write(b []byte) (int, error) {
	n := len(b)
	for {
		line, rest, whole := bytes.Cut(b, []byte("\n"))
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
	l.each(strings.ToValidUTF8(strings.TrimSuffix(string(l.part), "\r"), "\uFFFD"))
	l.part = l.part[:0]
}

// end takes a last line without an end.
func (l *lines) end() {
	if len(l.part) > 0 {
		l.flush()
	}
}
