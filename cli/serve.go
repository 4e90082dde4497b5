package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"runtime/debug"
	"syscall"

	"github.com/spf13/cobra"

	"humblemule/console"
	"humblemule/core/engine"
	"humblemule/server"
)

const defaultListen = "127.0.0.1:6853"

// service is a running service.
type service struct {
	engine   *engine.Engine
	listener net.Listener
	server   *server.Server
}

// open opens the data file and the address; nothing is answered yet.
func open(data, listen string, log *slog.Logger) (*service, error) {
	l, err := listenOn(listen)
	if err != nil {
		return nil, err
	}
	e, err := engine.Open(data, engine.Options{Log: log})
	if err != nil {
		l.Close()
		return nil, err
	}
	s := server.New(e, server.Options{Version: Version, Console: console.Files(), Log: log})
	return &service{engine: e, listener: l, server: s}, nil
}

// listenOn opens an address of this machine alone.
func listenOn(listen string) (net.Listener, error) {
	host, _, err := net.SplitHostPort(listen)
	if err != nil {
		return nil, usageError{fmt.Errorf("--listen %q is no address; write it as %s", listen, defaultListen)}
	}
	if ip := net.ParseIP(host); host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return nil, usageError{fmt.Errorf("--listen %q would open the service to other machines, which needs access tokens; they are not built yet: use a loopback address such as %s", listen, defaultListen)}
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

func (s *service) address() string { return "http://" + s.listener.Addr().String() }

// A service keeps little in memory and makes much garbage: collecting less often
// costs some megabytes and saves a tenth of its CPU time. GOGC overrides it.
const gcPercent = 400

// run answers until ctx ends, then closes the data file.
func (s *service) run(ctx context.Context) error {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(gcPercent)
	}
	err := s.server.Serve(ctx, s.listener)
	return errors.Join(err, s.engine.Close())
}

func (a *app) serveCommand() *cobra.Command {
	var data, listen string
	c := &cobra.Command{
		Use: "serve", Short: "Start the service", Args: args(cobra.NoArgs), Example: "  hmule serve --data harbour.db",
		RunE: func(c *cobra.Command, _ []string) error {
			log := slog.New(slog.NewTextHandler(a.err, nil))
			s, err := open(data, listen, log)
			if err != nil {
				return err
			}
			full, err := filepath.Abs(data)
			if err != nil {
				full = data
			}
			log.Info("service starts", "version", Version, "data", full, "console", s.address()+"/", "api", s.address()+"/v1")
			err = s.run(c.Context())
			log.Info("service ends")
			return err
		},
	}
	c.Flags().StringVar(&data, "data", fromEnv("HMULE_DATA", "hmule.db"), "data file; created where there is none (HMULE_DATA)")
	c.Flags().StringVar(&listen, "listen", fromEnv("HMULE_LISTEN", defaultListen), "address to answer at (HMULE_LISTEN)")
	return c
}
