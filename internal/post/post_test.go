package post

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net"
	netmail "net/mail"
	"net/textproto"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"math/rand/v2"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/internal/text"
)

// What a server does that says nothing.
const (
	hangs   = "hangs"
	closes  = "closes"
	endless = "endless"
	drips   = "drips"
)

// server takes mail, and says at each step what it is told to say; empty for what is usual.
type server struct {
	address string
	says    func(step string) string

	mu    sync.Mutex
	mails []string
	open  int
}

func newServer(t *testing.T, says func(step string) string) *server {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s := &server{address: l.Addr().String(), says: says}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			s.count(1)
			go func() {
				defer s.count(-1)
				defer c.Close()
				s.serve(c)
			}()
		}
	}()
	return s
}

func (s *server) count(n int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.open += n
}

func (s *server) taken() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.mails)
}

// answer says something, and tells whether the talk goes on.
func (s *server) answer(c net.Conn, step, usual string) bool {
	said := s.says(step)
	switch said {
	case "":
		said = usual
	case closes:
		return false
	case hangs:
		io.Copy(io.Discard, c)
		return false
	case endless:
		for {
			if _, err := c.Write([]byte(strings.Repeat("250-go on", 1000))); err != nil {
				return false
			}
		}
	case drips:
		for _, b := range strings.Repeat("2", 1000) {
			if _, err := c.Write([]byte(string(b))); err != nil {
				return false
			}
			time.Sleep(10 * time.Millisecond)
		}
	}
	_, err := fmt.Fprintf(c, "%s\r\n", said)
	return err == nil
}

func (s *server) serve(c net.Conn) {
	in := textproto.NewReader(bufio.NewReader(c))
	if !s.answer(c, "greeting", "220 quay.example") {
		return
	}
	for {
		line, err := in.ReadLine()
		if err != nil {
			return
		}
		step, rest, _ := strings.Cut(line, " ")
		if step == "RCPT" {
			step += " " + rest
		}
		usual := "250 yes"
		if step == "DATA" {
			usual = "354 go on"
		}
		if !s.answer(c, step, usual) {
			return
		}
		if step != "DATA" || s.says(step) != "" {
			continue
		}
		body, err := in.ReadDotBytes()
		if err != nil {
			return
		}
		if s.says("body") == "" {
			s.mu.Lock()
			s.mails = append(s.mails, string(body))
			s.mu.Unlock()
		}
		if !s.answer(c, "body", "250 kept") {
			return
		}
	}
}

func office(address string) *Office {
	o := New(Server{Server: address, From: "Saltmarrow Harbour <jobs@harbour.example>", TLS: tlsNone, Console: "https://jobs.harbour.example/"}, nil, "hmule.mail")
	o.within = time.Minute
	return o
}

func letter(to ...string) *Letter {
	return &Letter{ID: "store-7-1-dead", To: to, Subject: "dues.charge is dead", Parts: []Part{{Heading: "Berths", Lines: []string{"Job 7 is dead."}, Facts: [][2]string{{"task", "dues.charge"}}, Path: "/jobs/7"}}}
}

// Whatever a mail server says, and wherever it stops, a mail is sent, or it is said why not, in time; only
// what is refused for good is not retried; and nothing is left open.
func TestServersThatFail(t *testing.T) {
	to := []string{"ada@harbour.example", "bo@harbour.example"}
	for _, step := range []string{"greeting", "EHLO", "MAIL", "RCPT TO:<ada@harbour.example>", "RCPT TO:<bo@harbour.example>", "DATA", "body", "QUIT"} {
		for _, said := range []string{"421 not now", "451 later", "550 never", "554 no", "garbage", "999999999999 what", "250-unended", hangs, closes, endless, drips} {
			t.Run(step+" "+said, func(t *testing.T) {
				t.Parallel()
				s := newServer(t, func(at string) string {
					if at == step || at == "HELO" && step == "EHLO" {
						return said
					}
					return ""
				})
				o := office(s.address)
				if waits := []string{hangs, drips, "250-unended"}; slices.Contains(waits, said) && step != "QUIT" {
					o.within = 300 * time.Millisecond
				}
				began := time.Now()
				err := o.Send(t.Context(), letter(to...))
				assert.Less(t, time.Since(began), 20*time.Second)
				recipient, forGood := strings.HasPrefix(step, "RCPT"), said[0] == '5'
				switch {
				case step == "QUIT":
					assert.NoError(t, err, "it is delivered")
				case recipient && forGood:
					require.ErrorContains(t, err, strings.TrimPrefix(step, "RCPT TO:"))
					assert.ErrorContains(t, err, "the others have the mail")
					assert.True(t, Refused(err))
				default:
					require.Error(t, err)
					talking := step != "greeting" && step != "EHLO" // how a server begins is no word on a mail
					assert.Equal(t, talking && forGood, Refused(err), "%v", err)
				}
				assert.Len(t, s.taken(), map[bool]int{true: 1}[step == "QUIT" || recipient && forGood])
				assert.Eventually(t, func() bool {
					s.mu.Lock()
					defer s.mu.Unlock()
					return s.open == 0
				}, 5*time.Second, 5*time.Millisecond, "the connection is left open")
			})
		}
	}
}

func TestNoServer(t *testing.T) {
	o := office("127.0.0.1:1")
	assert.ErrorContains(t, o.Send(t.Context(), letter("ada@harbour.example")), "refused")
	s := newServer(t, func(string) string { return hangs })
	ctx, cancel := context.WithCancel(t.Context())
	time.AfterFunc(20*time.Millisecond, cancel)
	o = office(s.address)
	began := time.Now()
	require.Error(t, o.Send(ctx, letter("ada@harbour.example")))
	assert.Less(t, time.Since(began), 5*time.Second, "a service that ends waits for no mail server")
	all := newServer(t, func(step string) string {
		if strings.HasPrefix(step, "RCPT") {
			return "550 unknown"
		}
		return ""
	})
	err := office(all.address).Send(t.Context(), letter("ada@harbour.example", "bo@harbour.example"))
	assert.True(t, Refused(err))
	assert.ErrorContains(t, err, "bo@harbour.example")
	assert.NotContains(t, err.Error(), "others")
	assert.True(t, Refused(o.Send(t.Context(), letter("nobody"))))
	o.Set(Server{})
	assert.False(t, o.Sends())
	assert.ErrorContains(t, o.Send(t.Context(), letter("ada@harbour.example")), "no mail server")
}

// Whatever jobs put into a letter, it has the headers that it should have and no others, and reads as it was written.
func TestLettersArriveAsWritten(t *testing.T) {
	s := newServer(t, func(string) string { return "" })
	o := office(s.address)
	draw := rand.New(rand.NewPCG(5321, 1))
	odd := func() string {
		var b strings.Builder
		for range 1 + draw.IntN(6) {
			b.WriteString([]string{"\r\n", "\n", "\r", ".", "\r\n.\r\n", "Bcc: mallory@evil.example", "\r\nBcc: mallory@evil.example\r\n", "=3D", "<script>", "&amp;", "ü🚢", strings.Repeat("long ", 300), strings.Repeat("x", 1200), "\x00", "\u202e", "\t", " ", "{{.}}", "\"", "--"}[draw.IntN(20)])
		}
		return b.String()
	}
	for n := range 150 {
		l := &Letter{ID: fmt.Sprint("store-", n), To: []string{"ada@harbour.example"}, Subject: text.Visible(odd())}
		for range 1 + draw.IntN(3) {
			l.Parts = append(l.Parts, Part{Heading: text.Visible(odd()), Lines: []string{text.Visible(odd()), text.Visible(odd())}, Facts: [][2]string{{"task", text.Visible(odd())}}, Path: "/jobs/7"})
		}
		require.NoError(t, o.Send(t.Context(), l))
		m, err := netmail.ReadMessage(strings.NewReader(s.taken()[n]))
		require.NoError(t, err)
		var names []string
		for name := range m.Header {
			names = append(names, name)
		}
		assert.ElementsMatch(t, []string{"Auto-Submitted", "Content-Type", "Date", "From", "Message-Id", "Mime-Version", "Subject", "To"}, names)
		assert.Equal(t, fmt.Sprintf("<store-%d@harbour.example>", n), m.Header.Get("Message-Id"))
		subject, err := new(mime.WordDecoder).DecodeHeader(m.Header.Get("Subject"))
		require.NoError(t, err)
		assert.Equal(t, strings.Join(strings.Fields(l.Subject), " "), strings.Join(strings.Fields(subject), " "))
		_, params, err := mime.ParseMediaType(m.Header.Get("Content-Type"))
		require.NoError(t, err)
		parts := multipart.NewReader(m.Body, params["boundary"])
		page, err := o.HTML(l)
		require.NoError(t, err)
		for _, want := range []string{o.Text(l), page} {
			part, err := parts.NextRawPart()
			require.NoError(t, err)
			require.Equal(t, "quoted-printable", part.Header.Get("Content-Transfer-Encoding"))
			got, err := io.ReadAll(quotedprintable.NewReader(part))
			require.NoError(t, err)
			assert.True(t, strings.TrimRight(want, "\n") == strings.TrimRight(strings.ReplaceAll(string(got), "\r\n", "\n"), "\n"), "letter %d", n)
		}
		assert.False(t, strings.Contains(page, "<script"), "letter %d", n)
	}
}

func TestSettingsOfMail(t *testing.T) {
	right := Server{Server: "smtp.harbour.example:587", From: "jobs@harbour.example"}
	assert.Empty(t, right.Check())
	assert.Empty(t, new(Server).Check())
	for field, change := range map[string]func(*Server){
		"server":  func(s *Server) { s.Server = "" },
		"server ": func(s *Server) { s.Server = "smtp.harbour.example:99999" },
		"server.": func(s *Server) { s.Server = ":25" },
		"from":    func(s *Server) { s.From = "nobody" },
		"tls":     func(s *Server) { s.TLS = "some" },
		"tls ":    func(s *Server) { s.TLS, s.User, s.Secret = tlsNone, "jobs", "mail" },
		"secret":  func(s *Server) { s.User = "jobs" },
		"console": func(s *Server) { s.Console = "javascript:alert(1)" },
	} {
		s := right
		change(&s)
		wrong := s.Check()
		require.Len(t, wrong, 1, field)
		assert.Equal(t, strings.TrimRight(field, " ."), wrong[0].Field)
	}
}
