package job

import (
	"fmt"
	"net/mail"
	"slices"
	"strings"

	"humblemule.example/internal/check"
	"humblemule.example/internal/text"
)

// Notify says that somebody is told when a job ends: by an endpoint, a call or a mail, one of which is
// given. The message is itself a job, of a task of the service's own.
type Notify struct {
	// On are the states that are told: done, skipped, cancelled, dead.
	On []State `json:"on"`
	// Endpoint is the name of an endpoint.
	Endpoint string `json:"endpoint,omitzero"`
	// Call is a request whose body is the message.
	Call *Call `json:"call,omitzero"`
	// Mail are those to whom it is sent.
	Mail *Mail `json:"mail,omitzero"`
	// Each has every job of an act on many tell by itself; else one message tells how many there were.
	Each bool `json:"each,omitzero"`
}

// Mail are those who get one.
type Mail struct {
	// To are 1 to 10 addresses (RFC 5322).
	To []string `json:"to"`
	// Subject stands before what the message says; empty for nothing.
	Subject string `json:"subject,omitzero"`
}

// The tasks of the service's own, whose names nobody else may use.
const (
	OwnPrefix = "hmule."
	TaskCall  = OwnPrefix + "call"
	TaskMail  = OwnPrefix + "mail"
	// TaskCommand runs a command that the file names with which the service is started.
	TaskCommand = OwnPrefix + "command"
	// NoticeQueue is where their jobs wait.
	NoticeQueue = "notices"
)

// OwnTasks are all of them.
func OwnTasks() []string { return []string{TaskCall, TaskMail, TaskCommand} }

// IsOwn tells whether a task is one of the service's own.
func IsOwn(task string) bool { return strings.HasPrefix(task, OwnPrefix) }

// What a notify may hold.
const (
	MaxNotify    = 10
	MaxMailTo    = 10
	maxSubject   = 200
	maxMailBytes = 254
)

// CheckNotify adds to a list what is wrong with whom a job tells of its end.
func CheckNotify(c *check.List, field string, all []Notify) {
	if len(all) > MaxNotify {
		c.Add(field, "are %d; at most %d are taken", len(all), MaxNotify)
		return
	}
	for i := range all {
		all[i].check(c, fmt.Sprintf("%s[%d].", field, i))
	}
}

func (n *Notify) check(c *check.List, at string) {
	if len(n.On) == 0 {
		c.Add(at+"on", "is missing; name the states that are told: done, skipped, cancelled, dead")
	}
	for i, s := range n.On {
		switch {
		case !s.Finished():
			c.Add(fmt.Sprintf("%son[%d]", at, i), "is of no finished job; those are done, skipped, cancelled and dead")
		case slices.Contains(n.On[:i], s):
			c.Add(fmt.Sprintf("%son[%d]", at, i), "%s appears twice", s)
		}
	}
	given := 0
	for _, is := range []bool{n.Endpoint != "", n.Call != nil, n.Mail != nil} {
		if is {
			given++
		}
	}
	if given != 1 {
		c.Add(at+"endpoint", "%s; give one of endpoint, call and mail", map[bool]string{true: "is missing", false: "cannot be combined with others"}[given == 0])
	}
	if n.Endpoint != "" {
		c.Name(at+"endpoint", n.Endpoint)
	}
	if n.Call != nil {
		if n.Call.Body != nil || n.Call.Text != "" {
			c.Add(at+"call.body", "cannot be given: the message is the body")
		}
		if n.Call.Method == "GET" || n.Call.Method == "HEAD" {
			c.Add(at+"call.method", "cannot be %s, which sends nothing; leave it out for POST", n.Call.Method)
		}
		n.Call.check(c, at+"call.")
	}
	if n.Mail != nil {
		n.Mail.Check(c, at+"mail.")
	}
}

// Check adds to a list what is wrong with those who get a mail.
func (m *Mail) Check(c *check.List, at string) {
	if len(m.To) == 0 || len(m.To) > MaxMailTo {
		c.Add(at+"to", "has %d addresses; give 1 to %d", len(m.To), MaxMailTo)
	}
	for i, to := range m.To {
		if _, err := mail.ParseAddress(to); err != nil || len(to) > maxMailBytes || strings.ContainsFunc(to, func(r rune) bool { return r < ' ' }) {
			c.Add(fmt.Sprintf("%sto[%d]", at, i), "%q is not a mail address, such as ada@harbour.example", text.Shorten(to))
		}
	}
	c.Word(at+"subject", m.Subject, maxSubject)
}
