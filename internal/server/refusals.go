package server

import (
	"bytes"
	"crypto/tls"
	"fmt"
	"net"
	"net/http"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json"
)

// problems is a listener on whose connections package net/http refuses a request that it
// cannot parse with a problem (RFC 9457), as the service refuses all others, in the place of a
// text.
type problems struct{ net.Listener }

func (l problems) Accept() (net.Conn, error) {
	c, err := l.Listener.Accept()
	if err != nil {
		return nil, err
	}
	if _, secured := c.(*tls.Conn); secured {
		return c, nil // package net/http knows such connections by their type
	}
	return refusing{c}, nil
}

type refusing struct{ net.Conn }

// CloseWrite lets package net/http end its side first, so that a caller which is still sending
// reads what it was refused for.
func (c refusing) CloseWrite() error {
	if half, can := c.Conn.(interface{ CloseWrite() error }); can {
		return half.CloseWrite()
	}
	return nil
}

// What package net/http writes at once for a request that it cannot parse. An answer of the
// service never has these headers alone.
var (
	refusalStart   = []byte("HTTP/1.1 ")
	refusalHeaders = []byte("\r\nContent-Type: text/plain; charset=utf-8\r\nConnection: close\r\n\r\n")
)

func (c refusing) Write(b []byte) (int, error) {
	head, text, is := bytes.Cut(b, refusalHeaders)
	if !is || !bytes.HasPrefix(head, refusalStart) || bytes.Contains(head, []byte("\r\n")) {
		return c.Conn.Write(b)
	}
	word, _, _ := strings.Cut(string(head[len(refusalStart):]), " ")
	status, err := strconv.Atoi(word)
	if err != nil {
		return c.Conn.Write(b)
	}
	detail := "the request is not valid HTTP"
	switch _, reason, found := strings.Cut(string(text), ": "); {
	case status == http.StatusRequestHeaderFieldsTooLarge:
		detail = fmt.Sprintf("the headers of the request are larger than %d KiB", MaxHeader>>10)
	case found:
		detail += ": " + reason
	}
	body, err := json.Marshal(problem{Type: "about:blank", Title: http.StatusText(status), Status: status, Detail: detail}, out)
	if err != nil {
		return c.Conn.Write(b)
	}
	body = append(body, '\n')
	answer := fmt.Appendf(nil, "%s\r\nContent-Type: application/problem+json\r\nContent-Length: %d\r\nConnection: close\r\n\r\n%s", head, len(body), body)
	if _, err := c.Conn.Write(answer); err != nil {
		return 0, err
	}
	return len(b), nil
}
