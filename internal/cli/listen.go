package cli

import (
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-systemd/v22/activation"

	"humblemule.example/internal/machine"
)

const defaultListen = "127.0.0.1:6853"

// socketOf is the path of an address that is a socket's: unix:PATH.
func socketOf(listen string) (path string, is bool) { return strings.CutPrefix(listen, "unix:") }

// isLoopback tells whether an address is of this machine alone.
func isLoopback(listen string) bool {
	if _, is := socketOf(listen); is {
		return true
	}
	host, _, _ := net.SplitHostPort(listen)
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// listenOn opens an address; one of this machine alone, unless tokens are asked for. Where the
// service was started by a socket that listens already, it takes that.
func listenOn(listen string, tokens bool) (net.Listener, error) {
	if given, err := givenListener(); given != nil || err != nil {
		if err == nil && !tokens && given.Addr().Network() == "tcp" && !isLoopback(given.Addr().String()) {
			err = usageError{fmt.Errorf("the socket %s that the service was started with would open it to other machines, which needs tokens: give --tokens FILE, or let the socket listen on %s", given.Addr(), defaultListen)}
		}
		return given, err
	}
	if path, is := socketOf(listen); is {
		return listenOnSocket(path)
	}
	if _, _, err := net.SplitHostPort(listen); err == nil && !tokens && !isLoopback(listen) {
		return nil, usageError{fmt.Errorf("--listen %q would open the service to other machines, which needs tokens: give --tokens FILE (hmule token new writes one), or use a loopback address such as %s", listen, defaultListen)}
	}
	return listenAt("--listen", listen)
}

func listenAt(flag, at string) (net.Listener, error) {
	if _, _, err := net.SplitHostPort(at); err != nil {
		return nil, usageError{fmt.Errorf("%s %q is not an address; write it as %s", flag, at, defaultListen)}
	}
	l, err := net.Listen("tcp", at)
	if machine.AddressInUse(err) {
		return nil, fmt.Errorf("%s is already in use: stop the service there, or choose another port with %s 127.0.0.1:6854", at, flag)
	}
	if err != nil {
		return nil, fmt.Errorf("the service cannot listen on %s: %w", at, err)
	}
	return l, nil
}

// givenListener is the socket that whoever started the service has opened for it, as systemd does;
// nil for none. Over a restart of the service it goes on listening: requests wait, and none fails.
func givenListener() (net.Listener, error) {
	all, err := activation.Listeners()
	if err != nil || len(all) == 0 {
		return nil, err
	}
	if len(all) > 1 || all[0] == nil {
		return nil, usageError{fmt.Errorf("the service was started with %d sockets; give it one that listens for streams", len(all))}
	}
	return all[0], nil
}

// listenOnSocket opens a socket that this account, and its group, may use. A socket that nobody
// listens on any more is put away first.
func listenOnSocket(path string) (net.Listener, error) {
	if path == "" {
		return nil, usageError{errors.New("--listen unix: names no socket; write it as unix:/run/hmule/hmule.sock")}
	}
	if info, err := os.Lstat(path); err == nil {
		if info.Mode()&fs.ModeSocket == 0 {
			return nil, usageError{fmt.Errorf("%s is not a socket, and is left as it is; name another with --listen unix:PATH", path)}
		}
		if c, err := net.Dial("unix", path); err == nil {
			c.Close()
			return nil, fmt.Errorf("a service already listens on %s: stop it, or name another socket with --listen unix:PATH", path)
		}
		if err := os.Remove(path); err != nil {
			return nil, fmt.Errorf("the socket %s, which nobody listens on, cannot be removed: %w", path, err)
		}
	}
	l, err := net.Listen("unix", path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("the folder %s does not exist; create it, or name another socket with --listen unix:PATH", filepath.Dir(path))
	}
	if err == nil {
		err = os.Chmod(path, 0o660)
	}
	if err != nil {
		return nil, fmt.Errorf("the service cannot listen on the socket %s: %w", path, err)
	}
	return l, nil
}

// certificates give the certificate of two files, which are read again when they have changed.
type certificates struct {
	cert, key string
	log       *slog.Logger
	mu        sync.Mutex
	is        *tls.Certificate
	changed   time.Time
	lookAt    time.Time
}

// lookEvery is how often it is looked whether the files have changed.
const lookEvery = 10 * time.Second

func newCertificates(cert, key string, log *slog.Logger) (*certificates, error) {
	c := &certificates{cert: cert, key: key, log: log}
	return c, c.read()
}

// read reads both files; where they cannot be used what was read before stays.
func (c *certificates) read() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.readNow(c.writtenAt())
}

func (c *certificates) readNow(written time.Time) error {
	pair, err := tls.LoadX509KeyPair(c.cert, c.key)
	c.lookAt = time.Now().Add(lookEvery)
	if err != nil {
		return fmt.Errorf("the certificate of --tls-cert and the key of --tls-key cannot be used: %w", err)
	}
	c.is, c.changed = &pair, written
	return nil
}

// writtenAt is when the later of the two files was written.
func (c *certificates) writtenAt() (at time.Time) {
	for _, name := range []string{c.cert, c.key} {
		if info, err := os.Stat(name); err == nil && info.ModTime().After(at) {
			at = info.ModTime()
		}
	}
	return at
}

// get is [tls.Config.GetCertificate].
func (c *certificates) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if time.Now().Before(c.lookAt) {
		return c.is, nil
	}
	c.lookAt = time.Now().Add(lookEvery)
	if written := c.writtenAt(); !written.Equal(c.changed) {
		if err := c.readNow(written); err != nil { // perhaps one of them is being written
			c.log.Error("the certificate has changed and cannot be used; the one before stays", "error", err)
		} else {
			c.log.Info("the certificate has changed and was read again")
		}
	}
	return c.is, nil
}

// secured is a listener with TLS.
func (c *certificates) secured(l net.Listener) net.Listener {
	return tls.NewListener(l, &tls.Config{MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1"}, GetCertificate: c.get})
}
