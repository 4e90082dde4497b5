// Package post sends mail (RFC 5321) by a server that the file names with which the service is started.
package post

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"html/template"
	"net"
	netmail "net/mail"
	"net/textproto"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	mail "github.com/wneessen/go-mail"
	"github.com/wneessen/go-mail/smtp"

	"humblemule.example/internal/check"
	"humblemule.example/internal/text"
)

// Server says by which server mail goes out. It stands in the file that the service is started with.
type Server struct {
	// Server is its host, with a port where that is not 587.
	Server string `json:"server"`
	// From is whom mail is from, as in Saltmarrow Harbour <jobs@harbour.example>.
	From string `json:"from"`
	// User and Secret sign in, where the server asks for that; Secret is the name of a secret for the task hmule.mail,
	// whose hosts name the server.
	User   string `json:"user,omitzero"`
	Secret string `json:"secret,omitzero"`
	// TLS is required (the default), or none for a server on this machine.
	TLS string `json:"tls,omitzero"`
	// Console is the address of the console, for links, such as https://jobs.harbour.example.
	Console string `json:"console,omitzero"`
}

const (
	tlsRequired = "required"
	tlsNone     = "none"
	defaultPort = 587
	within      = 30 * time.Second
	goodbye     = time.Second
	mostHeard   = 1 << 20 // bytes of what a server says
)

// Check answers what is wrong with the settings; those that name no server are right.
func (s *Server) Check() []check.FieldError {
	var c check.List
	if s.Server == "" {
		if *s != (Server{}) {
			c.Add("server", "is missing; name a mail server such as smtp.harbour.example:587")
		}
		return c
	}
	if host, _, err := s.address(); err != nil || host == "" {
		c.Add("server", "%q is not a host with a port, such as smtp.harbour.example:587", text.Shorten(s.Server))
	}
	if _, err := netmail.ParseAddress(s.From); err != nil {
		c.Add("from", "%q is not a mail address, such as Saltmarrow Harbour <jobs@harbour.example>", text.Shorten(s.From))
	}
	c.OneOf("tls", s.TLS, tlsRequired, tlsNone)
	if (s.User == "") != (s.Secret == "") {
		c.Add("secret", "and user belong together; give both or neither")
	}
	if s.Secret != "" && s.TLS == tlsNone {
		c.Add("tls", "is none: the secret would go over the network for all to read")
	}
	if s.Console != "" && !strings.HasPrefix(s.Console, "https://") && !strings.HasPrefix(s.Console, "http://") {
		c.Add("console", "%q is not an address such as https://jobs.harbour.example", text.Shorten(s.Console))
	}
	return c
}

func (s *Server) address() (host string, port int, err error) {
	if !strings.Contains(s.Server, ":") {
		return s.Server, defaultPort, nil
	}
	host, text, err := net.SplitHostPort(s.Server)
	if err == nil {
		port, err = strconv.Atoi(text)
	}
	if err == nil && (port < 1 || port > 65535) {
		err = errors.New("the port is outside 1 to 65535")
	}
	return host, port, err
}

// Secrets gives the secret by which the service signs in.
type Secrets interface {
	OfCall(secret, task, host string) ([]byte, error)
}

// Office sends mail. Its methods may be called from any goroutine.
type Office struct {
	server  atomic.Pointer[Server]
	secrets Secrets
	task    string
	within  time.Duration
}

// New gives an office, which signs in by a secret for a task.
func New(s Server, secrets Secrets, task string) *Office {
	o := &Office{secrets: secrets, task: task, within: within}
	o.Set(s)
	return o
}

// Set changes the server.
func (o *Office) Set(s Server) { o.server.Store(&s) }

// Sends tells whether there is a server.
func (o *Office) Sends() bool { return o.server.Load().Server != "" }

// Letter is a mail, before it is written.
type Letter struct {
	// ID is that of the mail, the same for each attempt to send it.
	ID      string
	To      []string
	Subject string
	Parts   []Part
}

// Part is what a letter tells of one thing.
type Part struct {
	// Heading begins some parts; empty where the part goes on with those before it.
	Heading string
	// Lines are sentences, Facts what is told in two columns, and Path leads to a page of the console.
	Lines []string
	Facts [][2]string
	Path  string
}

// links gives a letter whose parts lead to pages of the console, where one is named.
func (o *Office) links(l *Letter) *Letter {
	console := strings.TrimSuffix(o.server.Load().Console, "/")
	linked := *l
	linked.Parts = slices.Clone(l.Parts)
	for i := range linked.Parts {
		if p := &linked.Parts[i]; p.Path != "" && console != "" {
			p.Path = console + p.Path
		} else {
			p.Path = ""
		}
	}
	return &linked
}

// Text is a letter as plain text.
func (o *Office) Text(l *Letter) string {
	var parts []string
	for _, p := range o.links(l).Parts {
		parts = append(parts, p.text())
	}
	return strings.Join(parts, "\n")
}

func (p *Part) text() string {
	var b strings.Builder
	if p.Heading != "" {
		b.WriteString(strings.ToUpper(p.Heading) + "\n\n")
	}
	for _, line := range p.Lines {
		b.WriteString(line + "\n\n")
	}
	wide := 0
	for _, f := range p.Facts {
		wide = max(wide, len(f[0]))
	}
	for _, f := range p.Facts {
		fmt.Fprintf(&b, "%-*s  %s\n", wide, f[0], f[1])
	}
	if p.Path != "" {
		b.WriteString("\n" + p.Path + "\n")
	}
	return b.String()
}

var page = template.Must(template.New("letter").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>{{.Subject}}</title></head>
<body style="margin:0;padding:24px;background:#fbfaf7;color:#26303f;font:16px/1.5 'Atkinson Hyperlegible',Verdana,sans-serif">
<div style="max-width:36em">
{{range .Parts}}<div style="margin:0 0 32px">
{{if .Heading}}<h2 style="margin:0 0 12px;font-size:16px;color:#5f6775">{{.Heading}}</h2>
{{end}}{{range $i, $line := .Lines}}<p style="margin:0 0 8px{{if eq $i 0}};font-size:18px;font-weight:bold{{end}}">{{$line}}</p>
{{end}}{{if .Facts}}<table style="border-collapse:collapse;margin:0 0 8px">
{{range .Facts}}<tr><th style="text-align:left;font-weight:normal;color:#5f6775;padding:4px 16px 4px 0;vertical-align:top;white-space:nowrap">{{index . 0}}</th><td style="padding:4px 0">{{index . 1}}</td></tr>
{{end}}</table>
{{end}}{{if .Path}}<p style="margin:0"><a href="{{.Path}}" style="color:#10617a">Open it in the console</a></p>
{{end}}</div>
{{end}}</div></body></html>
`))

// HTML is a letter as a page.
func (o *Office) HTML(l *Letter) (string, error) {
	var b bytes.Buffer
	err := page.Execute(&b, o.links(l))
	return b.String(), err
}

// Send sends a letter, and answers why it was not taken. Whether that is for good is told by [Refused].
func (o *Office) Send(ctx context.Context, l *Letter) error {
	s := o.server.Load()
	if s.Server == "" {
		return errors.New("the service knows no mail server; name one under mail in the file that it is started with")
	}
	host, port, err := s.address()
	if err != nil {
		return err
	}
	m := mail.NewMsg(mail.WithNoDefaultUserAgent())
	if err := errors.Join(m.From(s.From), m.To(l.To...)); err != nil {
		return &refusal{err}
	}
	m.Subject(l.Subject)
	m.SetDate()
	_, domain, _ := strings.Cut(strings.Trim(s.From[strings.LastIndex(s.From, "<")+1:], ">"), "@")
	m.SetMessageIDWithValue(l.ID + "@" + domain)
	m.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834
	html, err := o.HTML(l)
	if err != nil {
		return err
	}
	m.SetBodyString(mail.TypeTextPlain, o.Text(l))
	m.AddAlternativeString(mail.TypeTextHTML, html)
	options := []mail.Option{mail.WithPort(port), mail.WithTimeout(o.within), mail.WithTLSPolicy(mail.TLSMandatory), mail.WithTLSConfig(&tls.Config{ServerName: host, MinVersion: tls.VersionTLS12})}
	if s.TLS == tlsNone {
		options = append(options, mail.WithTLSPolicy(mail.NoTLS))
	}
	if s.Secret != "" {
		secret, err := o.secrets.OfCall(s.Secret, o.task, host)
		if err != nil {
			return err
		}
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(s.User), mail.WithPassword(string(secret)))
	}
	return o.hand(ctx, host, m, options)
}

// hand dials the server and gives it a mail, whatever it says and for however long.
func (o *Office) hand(ctx context.Context, host string, m *mail.Msg, options []mail.Option) error {
	ctx, cancel := context.WithTimeout(ctx, o.within)
	defer cancel()
	dial := func(dialing context.Context, network, address string) (net.Conn, error) {
		c, err := new(net.Dialer).DialContext(dialing, network, address)
		if err != nil {
			return nil, err
		}
		context.AfterFunc(ctx, func() { c.Close() })
		return &bounded{c, mostHeard}, nil
	}
	client, err := mail.NewClient(host, append(options, mail.WithDialContextFunc(dial))...)
	if err != nil {
		return err
	}
	c, err := client.DialToSMTPClientWithContext(ctx)
	if err == nil {
		err = deliver(c, m)
	}
	if err != nil && errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return fmt.Errorf("%s has not taken the mail within %s: %w", host, o.within, err)
	}
	return err
}

// deliver gives a mail to a server: to all whom the server knows, where it refuses some of them for good.
func deliver(c *smtp.Client, m *mail.Msg) error {
	from, err := m.GetSender(false)
	if err != nil {
		return err
	}
	to, err := m.GetRecipients()
	if err != nil {
		return err
	}
	if err := c.Mail(from); err != nil {
		return judged(err)
	}
	var unknown []string
	for _, who := range to {
		if err := c.Rcpt(who); Refused(judged(err)) {
			unknown = append(unknown, fmt.Sprintf("%s is refused: %v", who, err))
		} else if err != nil {
			return err
		}
	}
	refused := &refusal{errors.New(strings.Join(unknown, "; "))}
	if len(unknown) == len(to) {
		return refused
	}
	w, err := c.Data()
	if err != nil {
		return judged(err)
	}
	if _, err := m.WriteTo(w); err != nil {
		return err
	}
	if err := w.Close(); err != nil {
		return judged(err)
	}
	// It is delivered, whatever the server says to a good-bye: sent again, it would come twice.
	if c.UpdateDeadline(goodbye) == nil {
		c.Quit()
	}
	if len(unknown) > 0 {
		refused.error = fmt.Errorf("%w; the others have the mail", refused.error)
		return refused
	}
	return nil
}

// judged is what a server says, which is for good where it says so.
func judged(err error) error {
	var said *textproto.Error
	if errors.As(err, &said) && said.Code >= 500 {
		return &refusal{err}
	}
	return err
}

// bounded is a connection that hears no more than so many bytes.
type bounded struct {
	net.Conn
	left int
}

func (b *bounded) Read(p []byte) (int, error) {
	if b.left <= 0 {
		return 0, errors.New("the mail server says too much")
	}
	n, err := b.Conn.Read(p[:min(len(p), b.left)])
	b.left -= n
	return n, err
}

// refusal is the error of a mail that is refused for good.
type refusal struct{ error }

func (r *refusal) Unwrap() error { return r.error }

// Refused tells whether a mail was refused for good.
func Refused(err error) bool {
	var r *refusal
	return errors.As(err, &r)
}
