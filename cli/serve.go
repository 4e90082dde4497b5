package cli

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"sync/atomic"
	"syscall"

	"github.com/spf13/cobra"

	"humblemule/config"
	"humblemule/console"
	"humblemule/core/engine"
	"humblemule/core/job"
	"humblemule/server"
)

const defaultListen = "127.0.0.1:6853"

// serving is how a service is asked for.
type serving struct {
	data, listen    string
	tokens, config  string
	tlsCert, tlsKey string
}

// service is a running service.
type service struct {
	asked    serving
	engine   *engine.Engine
	listener net.Listener
	server   *server.Server
	log      *slog.Logger
	// certificate is replaced when its files are read again.
	certificate atomic.Pointer[tls.Certificate]
}

// open opens the data file and the address; nothing is answered yet.
func open(asked serving, log *slog.Logger) (*service, error) {
	s := &service{asked: asked, log: log}
	tokens, err := s.readSecrets()
	if err != nil {
		return nil, err
	}
	l, err := listenOn(asked.listen, tokens != nil)
	if err != nil {
		return nil, err
	}
	s.listener = l
	if asked.tlsCert != "" {
		s.listener = tls.NewListener(l, &tls.Config{
			MinVersion: tls.VersionTLS12, NextProtos: []string{"http/1.1"},
			GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return s.certificate.Load(), nil },
		})
	} else if !isLoopback(asked.listen) {
		log.Warn("the service is open to other machines without TLS: tokens and payloads can be read on the way; give --tls-cert and --tls-key, or put a proxy with TLS before it")
	}
	if s.engine, err = engine.Open(asked.data, engine.Options{Log: log}); err != nil {
		l.Close()
		return nil, err
	}
	s.server = server.New(s.engine, server.Options{Version: Version, Console: console.Files(), Log: log})
	if tokens != nil {
		s.server.SetTokens(tokens)
	}
	if err := s.loadSetup(context.Background()); err != nil {
		l.Close()
		return nil, errors.Join(err, s.engine.Close())
	}
	return s, nil
}

// loadSetup makes queues and tasks what the set-up file defines, where one is given.
func (s *service) loadSetup(ctx context.Context) error {
	if s.asked.config == "" {
		return nil
	}
	setup, err := config.ReadSetup(s.asked.config)
	if err != nil {
		return err
	}
	ctx = engine.WithCall(ctx, engine.Call{Principal: filepath.Base(s.asked.config)})
	diff, err := s.engine.Load(ctx, job.SetupRequest{Setup: setup, DryRun: true})
	if err != nil || len(diff.Changes) == 0 {
		return err // what changes nothing is no action
	}
	if diff, err = s.engine.Load(ctx, job.SetupRequest{Setup: setup}); err != nil {
		return fmt.Errorf("%s: %w", s.asked.config, err)
	}
	s.log.Info("the set-up file was loaded", "file", s.asked.config, "changes", len(diff.Changes), "same", diff.Same)
	return nil
}

// readSecrets reads the tokens and the certificate; nil where none are asked for.
func (s *service) readSecrets() (tokens []server.Token, err error) {
	if (s.asked.tlsCert == "") != (s.asked.tlsKey == "") {
		return nil, usageError{errors.New("--tls-cert and --tls-key belong together; give both or neither")}
	}
	if s.asked.tlsCert != "" {
		pair, err := tls.LoadX509KeyPair(s.asked.tlsCert, s.asked.tlsKey)
		if err != nil {
			return nil, fmt.Errorf("the certificate of --tls-cert and the key of --tls-key cannot be used: %w", err)
		}
		s.certificate.Store(&pair)
	}
	if s.asked.tokens == "" {
		return nil, nil
	}
	entries, err := config.ReadTokens(s.asked.tokens, roleWords())
	for _, e := range entries {
		tokens = append(tokens, server.Token{Name: e.Name, Role: server.Role(e.Role), Hash: e.Hash})
	}
	return tokens, err
}

// rereadOn reads set-up, tokens and certificate again whenever a signal comes, until ctx
// ends. What cannot be read leaves everything as it was.
func (s *service) rereadOn(ctx context.Context, signals ...os.Signal) {
	asked := make(chan os.Signal, 1)
	signal.Notify(asked, signals...)
	defer signal.Stop(asked)
	for {
		select {
		case <-asked:
		case <-ctx.Done():
			return
		}
		if err := s.loadSetup(ctx); err != nil {
			s.log.Error("queues and tasks stay as they were", "error", err)
		}
		tokens, err := s.readSecrets()
		switch {
		case err != nil:
			s.log.Error("tokens and certificate stay as they were", "error", err)
		case tokens == nil && s.asked.config == "":
			s.log.Info("there is nothing to read again: the service was started without --tokens and --config")
		case tokens != nil:
			s.server.SetTokens(tokens)
			s.log.Info("tokens and certificate were read again", "tokens", len(tokens))
		}
	}
}

func isLoopback(listen string) bool {
	host, _, _ := net.SplitHostPort(listen)
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// listenOn opens an address; one of this machine alone, unless tokens are asked
// for.
func listenOn(listen string, tokens bool) (net.Listener, error) {
	if _, _, err := net.SplitHostPort(listen); err != nil {
		return nil, usageError{fmt.Errorf("--listen %q is no address; write it as %s", listen, defaultListen)}
	}
	if !tokens && !isLoopback(listen) {
		return nil, usageError{fmt.Errorf("--listen %q would open the service to other machines, which needs tokens: give --tokens FILE (hmule token new writes one), or use a loopback address such as %s", listen, defaultListen)}
	}
	l, err := net.Listen("tcp", listen)
	if errors.Is(err, syscall.EADDRINUSE) {
		return nil, fmt.Errorf("%s is in use already: stop the service there, or choose another port with --listen 127.0.0.1:6854", listen)
	}
	if err != nil {
		return nil, fmt.Errorf("%s cannot be listened on: %w", listen, err)
	}
	return l, nil
}

func (s *service) address() string {
	scheme := "http://"
	if s.asked.tlsCert != "" {
		scheme = "https://"
	}
	return scheme + s.listener.Addr().String()
}

// A service keeps little in memory and makes much garbage: collecting less often
// costs some megabytes and saves a tenth of its CPU time. GOGC overrides it.
const gcPercent = 400

// run answers until ctx ends, then closes the data file.
func (s *service) run(ctx context.Context) error {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(gcPercent)
	}
	go s.rereadOn(ctx, syscall.SIGHUP)
	err := s.server.Serve(ctx, s.listener)
	return errors.Join(err, s.engine.Close())
}

func (a *app) serveCommand() *cobra.Command {
	var asked serving
	c := &cobra.Command{
		Use: "serve", Short: "Start the service", Args: args(cobra.NoArgs),
		Example: "  hmule serve --data harbour.db\n  hmule serve --listen 0.0.0.0:6853 --tokens tokens.yaml --tls-cert cert.pem --tls-key key.pem",
		Long: `Start the service.

Without --tokens it answers on this machine only, and everybody here may do everything.
With --tokens every request needs a token of the file, with a role: reader, producer,
worker or operator; hmule token new makes them. Clients show theirs by HMULE_TOKEN.
With --config queues and tasks are set as the file defines them; see: hmule setup --help.
SIGHUP reads set-up file, tokens and certificate again.`,
		RunE: func(c *cobra.Command, _ []string) error {
			log := slog.New(slog.NewTextHandler(a.err, nil))
			s, err := open(asked, log)
			if err != nil {
				return err
			}
			full, err := filepath.Abs(asked.data)
			if err != nil {
				full = asked.data
			}
			log.Info("service starts", "version", Version, "data", full, "console", s.address()+"/", "api", s.address()+"/v1")
			err = s.run(c.Context())
			log.Info("service ends")
			return err
		},
	}
	f := c.Flags()
	f.StringVar(&asked.data, "data", fromEnv("HMULE_DATA", "hmule.db"), "data file; created where there is none (HMULE_DATA)")
	f.StringVar(&asked.listen, "listen", fromEnv("HMULE_LISTEN", defaultListen), "address to answer at (HMULE_LISTEN)")
	f.StringVar(&asked.tokens, "tokens", fromEnv("HMULE_TOKENS", ""), "file of tokens that callers need; permits other addresses (HMULE_TOKENS)")
	f.StringVar(&asked.config, "config", fromEnv("HMULE_CONFIG", ""), "set-up file of queues and tasks, loaded at start (HMULE_CONFIG)")
	f.StringVar(&asked.tlsCert, "tls-cert", fromEnv("HMULE_TLS_CERT", ""), "certificate, with its chain, as PEM (HMULE_TLS_CERT)")
	f.StringVar(&asked.tlsKey, "tls-key", fromEnv("HMULE_TLS_KEY", ""), "its key, as PEM (HMULE_TLS_KEY)")
	return c
}
