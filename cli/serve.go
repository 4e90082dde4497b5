package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"humblemule/cli/present"
	"humblemule/client"
	"humblemule/console"
	"humblemule/core/engine"
	"humblemule/harbour"
	"humblemule/server"
	"humblemule/worker"
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

// When the demo's outside world mends what makes jobs of Gull Rock die.
const demoFixAfter = 100 * time.Second

func (a *app) demoCommand() *cobra.Command {
	var data, listen string
	var seed uint64
	c := &cobra.Command{
		Use: "demo", Short: "Start service, worker pool and the traffic of a made-up harbour", Args: args(cobra.NoArgs), Example: "  hmule demo",
		Long: `Start service, worker pool and the traffic of a made-up harbour, in one process.

Manifests are checked and tides predicted; some fail by a seed, back off, and die. Dead
predictions for Gull Rock come back after a fix: the harbour files its constants after
100 seconds, and a requeue then succeeds. A dead manifest such as heron-0291 succeeds
when requeued with its corrected copy, {"manifest":"heron-0291b"}.`,
		RunE: func(c *cobra.Command, _ []string) error {
			return a.demo(c.Context(), data, listen, seed)
		},
	}
	c.Flags().StringVar(&data, "data", "", "data file to keep; without it a new one is made and removed at the end")
	c.Flags().StringVar(&listen, "listen", fromEnv("HMULE_LISTEN", defaultListen), "address to answer at (HMULE_LISTEN)")
	c.Flags().Uint64Var(&seed, "seed", 6853, "draws traffic and failures; the same seed, the same day")
	return c
}

func (a *app) demo(ctx context.Context, data, listen string, seed uint64) error {
	if data == "" {
		dir, err := os.MkdirTemp("", "hmule-demo-")
		if err != nil {
			return err
		}
		defer os.RemoveAll(dir)
		data = filepath.Join(dir, "harbour.db")
	}
	log := slog.New(slog.NewTextHandler(a.err, nil))
	s, err := open(data, listen, log)
	if err != nil {
		return err
	}
	out := present.New(a.out)
	out.Line("%s", present.Strong("Saltmarrow Harbour is open."))
	out.Facts([2]string{"console", s.address() + "/"}, [2]string{"api", s.address() + "/v1"}, [2]string{"data", data})
	out.Hint("In another terminal: hmule jobs --server %s   Ctrl-C ends the demo.", s.address())

	// The service outlives pool and traffic, so that the pool can settle.
	serving, stop := context.WithCancel(context.WithoutCancel(ctx))
	defer stop()
	ended := make(chan error, 1)
	go func() { ended <- s.run(serving) }()
	go func() { // a second Ctrl-C ends at once
		<-ctx.Done()
		second := make(chan os.Signal, 1)
		signal.Notify(second, os.Interrupt, syscall.SIGTERM)
		<-second
		os.Exit(exitRefused)
	}()
	err = a.harbour(ctx, s, seed, log)
	stop()
	return errors.Join(err, <-ended)
}

// harbour runs the office against a service until ctx ends.
func (a *app) harbour(ctx context.Context, s *service, seed uint64, log *slog.Logger) error {
	mule, err := client.New(s.address())
	if err != nil {
		return err
	}
	defer mule.Close()
	world := harbour.NewWorld(seed, 1)
	pool := worker.New(mule, worker.Options{
		Queues: []string{"berths", "common"}, Slots: 4, Name: "harbour-office", Version: Version, Grace: 5 * time.Second, Log: log,
	})
	world.Handlers(pool)
	fix := time.AfterFunc(demoFixAfter, func() {
		world.FileConstants()
		log.Info("the harbour has filed the constants of gull-rock: its dead letters succeed when they are requeued")
	})
	defer fix.Stop()
	traffic := make(chan error, 1)
	go func() { traffic <- harbour.NewTraffic(mule, seed, 700*time.Millisecond).Run(ctx) }()
	return errors.Join(pool.Run(ctx), <-traffic)
}
