package harbour

import (
	"bufio"
	"context"
	"fmt"
	"mime"
	"net"
	"net/mail"
	"net/textproto"
	"slices"
	"strings"
	"sync"
)

// Mailbox is a mail server on this machine that keeps what it gets, and tells it on: enough of SMTP
// (RFC 5321) for whoever sends to it without signing in.
type Mailbox struct {
	listener net.Listener
	// told is told of each letter.
	told func(Letter)

	mu  sync.Mutex
	all []Letter
}

// Letter is a mail as it came.
type Letter struct {
	From string
	To   []string
	Text string
}

// Subject is what a letter says to be about.
func (l *Letter) Subject() string {
	m, err := mail.ReadMessage(strings.NewReader(l.Text))
	if err != nil {
		return ""
	}
	subject, err := new(mime.WordDecoder).DecodeHeader(m.Header.Get("Subject"))
	if err != nil {
		return ""
	}
	return subject
}

// NewMailbox opens a mailbox at an address of this machine; told may be nil.
func NewMailbox(at string, told func(Letter)) (*Mailbox, error) {
	l, err := net.Listen("tcp", at)
	return &Mailbox{listener: l, told: told}, err
}

// Address is where it listens.
func (m *Mailbox) Address() string { return m.listener.Addr().String() }

// Letters are those that have come.
func (m *Mailbox) Letters() []Letter {
	m.mu.Lock()
	defer m.mu.Unlock()
	return slices.Clone(m.all)
}

// Run takes mail until ctx ends.
func (m *Mailbox) Run(ctx context.Context) {
	context.AfterFunc(ctx, func() { m.listener.Close() })
	for {
		c, err := m.listener.Accept()
		if err != nil {
			return
		}
		go m.serve(c)
	}
}

// serve speaks with one sender.
func (m *Mailbox) serve(c net.Conn) {
	defer c.Close()
	in := textproto.NewReader(bufio.NewReader(c))
	say := func(text string) { fmt.Fprintf(c, "%s\r\n", text) }
	say("220 saltmarrow.example takes mail")
	var l Letter
	for {
		line, err := in.ReadLine()
		if err != nil {
			return
		}
		word, rest, _ := strings.Cut(line, " ")
		switch strings.ToUpper(word) {
		case "EHLO", "HELO":
			say("250 saltmarrow.example")
		case "MAIL":
			l = Letter{From: address(rest)}
			say("250 from whom is noted")
		case "RCPT":
			l.To = append(l.To, address(rest))
			say("250 to whom is noted")
		case "DATA":
			say("354 go on; end with a dot")
			text, err := in.ReadDotBytes()
			if err != nil {
				return
			}
			l.Text = string(text)
			m.keep(l)
			say("250 it is kept")
		case "RSET", "NOOP":
			say("250 yes")
		case "QUIT":
			say("221 fair winds")
			return
		default:
			say("502 that is not spoken here")
		}
	}
}

func (m *Mailbox) keep(l Letter) {
	m.mu.Lock()
	m.all = append(m.all, l)
	m.mu.Unlock()
	if m.told != nil {
		m.told(l)
	}
}

// address is what stands between the angles of FROM:<…> or TO:<…>.
func address(s string) string {
	_, s, _ = strings.Cut(s, "<")
	s, _, _ = strings.Cut(s, ">")
	return s
}
