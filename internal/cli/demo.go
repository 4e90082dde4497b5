package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/cli/present"
	"humblemule.example/internal/config"
	"humblemule.example/internal/harbour"
	"humblemule.example/internal/post"
	"humblemule.example/job"
	"humblemule.example/worker"
)

// When the demo's outside world mends what makes jobs of Gull Rock die.
const demoFixAfter = 100 * time.Second

func (a *app) demoCommand() *cobra.Command {
	var d demo
	c := &cobra.Command{
		Use: "demo", Short: "Start service, worker pool and the traffic of a made-up harbour", Args: args(cobra.NoArgs), Example: "  hmule demo",
		Long: `Start service, worker pool and the traffic of a made-up harbour, in one process.

Manifests are checked and tides predicted; some fail by a seed, back off, and die. Dead
predictions for Gull Rock come back after a fix: the harbour files its constants after
100 seconds, and a requeue then succeeds. A dead manifest such as heron-0291 succeeds
when requeued with its corrected copy, {"manifest":"heron-0291b"}.

The harbour opens with thirty made-up days behind it, of which the figures tell and the jobs are
no longer kept: a storm, a slow bank, a deployment that was rolled back.

With --fixed a known number of jobs is enqueued, each with a known outcome; the command
tells what came out and fails where anything differs.`,
		RunE: func(c *cobra.Command, _ []string) error {
			ctx, stop := whileAttached(c.Context())
			defer stop()
			return a.demo(ctx, d)
		},
	}
	a.logFlags(c)
	f := c.Flags()
	f.StringVar(&d.data, "data", "", "data file to keep; without it a new one is made and removed at the end")
	f.StringVar(&d.listen, "listen", fromEnv("HMULE_LISTEN", defaultListen), "address to answer at (HMULE_LISTEN)")
	f.Uint64Var(&d.seed, "seed", 6853, "seed of the traffic and its failures; the same seed makes the same day")
	f.BoolVar(&d.fixed, "fixed", false, "run a known number of jobs with known outcomes, and check them")
	f.BoolVar(&d.stay, "stay", false, "with --fixed: stay open afterwards")
	return c
}

// demo is how the demo is asked for.
type demo struct {
	data, listen string
	seed         uint64
	fixed, stay  bool
}

func (a *app) demo(ctx context.Context, d demo) error {
	if d.data == "" {
		dir, err := os.MkdirTemp("", "hmule-demo-")
		if err != nil {
			return err
		}
		defer os.RemoveAll(dir)
		d.data = filepath.Join(dir, "harbour.db")
	}
	log, err := a.log()
	if err != nil {
		return err
	}
	if _, err := os.Stat(d.data); !d.fixed && errors.Is(err, fs.ErrNotExist) {
		if err := harbour.WritePast(d.data, time.Now(), d.seed); err != nil {
			return err
		}
	}
	setup, err := config.ParseSetup("hmule.yaml", harbour.Setup())
	if err != nil {
		return err
	}
	if os.Getenv(harbour.PilotsKey) == "" {
		os.Setenv(harbour.PilotsKey, harbour.NewKey())
	}
	box, err := harbour.NewMailbox("127.0.0.1:0", func(l harbour.Letter) {
		log.Info("a letter has come", "to", strings.Join(l.To, ", "), "subject", l.Subject())
	})
	if err != nil {
		return err
	}
	go box.Run(ctx)
	s, err := open(serving{
		Service: config.Service{Data: d.data, Listen: d.listen}, secrets: setup.Secrets, calls: setup.Calls, commands: setup.Commands,
		mail: post.Server{Server: box.Address(), From: "Saltmarrow Harbour <jobs@saltmarrow.example>", TLS: "none", Console: "http://" + d.listen},
	}, api.Setup{}, log)
	if err != nil {
		return err
	}
	out := a.forPeople(a.out)
	out.Line("%s", present.Strong("Saltmarrow Harbour is open."))
	out.Facts([2]string{"console", s.address() + "/"}, [2]string{"api", s.address() + "/v1"}, [2]string{"data", d.data})
	out.Hint("In another terminal: hmule job list --server %s   Ctrl-C ends the demo.", s.address())

	// The service outlives pool and traffic, so that the pool can settle.
	serving, stop := context.WithCancel(context.WithoutCancel(ctx))
	defer stop()
	ended := make(chan error, 1)
	go func() { ended <- s.run(serving) }()
	onSecondSignal(ctx, func() { os.Exit(exitRefused) })
	if d.fixed {
		err = a.fixedDay(ctx, s, d.stay, log)
	} else {
		err = a.openDay(ctx, s, d.seed, log)
	}
	stop()
	return errors.Join(err, <-ended)
}

// runPools runs the harbour's pools until ctx ends: the office, which grows while
// much is to be done, and the archive room.
func runPools(ctx context.Context, mule *client.Client, world *harbour.World, log *slog.Logger) error {
	const grace = 5 * time.Second
	office := worker.New(mule.Source(), worker.Options{
		Queues: []string{"bulletins", "berths", "common"}, Weights: map[string]int{"bulletins": 2, "berths": 2, "common": 1}, Slots: 4, MaxSlots: 12,
		Name: "harbour-office", Version: Version, Grace: grace, Log: log,
	})
	world.Office(office)
	archive := worker.New(mule.Source(), worker.Options{Queues: []string{"archive"}, Slots: 3, Name: "archive-room", Version: Version, Grace: grace, Log: log})
	world.ArchiveRoom(archive)
	ended := make(chan error, 1)
	go func() { ended <- archive.Run(ctx) }()
	return errors.Join(office.Run(ctx), <-ended)
}

// openDay runs the office, and an ordinary day's traffic, until ctx ends.
func (a *app) openDay(ctx context.Context, s *service, seed uint64, log *slog.Logger) error {
	mule, err := client.New(s.address())
	if err != nil {
		return err
	}
	defer mule.Close()
	if err := setUp(ctx, mule, true); ctx.Err() != nil {
		return nil // it was ended at once
	} else if err != nil {
		return err
	}
	world := harbour.NewWorld(seed, 1)
	fix := time.AfterFunc(demoFixAfter, func() {
		world.FileConstants()
		log.Info("the harbour has filed the constants of gull-rock: its dead letters succeed when they are requeued")
	})
	defer fix.Stop()
	go harbour.NewPilots(s.address()+"/hooks/"+harbour.ArrivalsHook, os.Getenv(harbour.PilotsKey), seed).Run(ctx, log)
	press, err := harbour.NewPress(seed)
	if err != nil {
		return err
	}
	go press.Run(ctx)
	if _, err := mule.PutEndpoint(ctx, "press", api.Endpoint{URL: press.URL(), Events: []api.EventRule{{On: []job.State{job.Done}, Tasks: []string{harbour.FogBulletin}}}, Note: "The press prints every fog bulletin."}); err != nil && ctx.Err() == nil {
		return err
	}
	traffic := make(chan error, 1)
	go func() { traffic <- harbour.NewTraffic(mule, press.URL(), true, seed, 700*time.Millisecond).Run(ctx) }()
	return errors.Join(runPools(ctx, mule, world, log), <-traffic)
}

// fixedDay runs the day of known outcomes and checks every one.
func (a *app) fixedDay(ctx context.Context, s *service, stay bool, log *slog.Logger) error {
	mule, err := client.New(s.address())
	if err != nil {
		return err
	}
	defer mule.Close()
	if err := setUp(ctx, mule, false); err != nil {
		return err
	}
	working, end := context.WithCancel(ctx)
	defer end()
	ended := make(chan error, 1)
	go func() { ended <- runPools(working, mule, harbour.NewFixedWorld(), log) }()
	jobs, err := enqueueFixed(ctx, mule)
	if err == nil {
		err = a.checkFixed(ctx, mule, jobs)
	}
	if stay && err == nil {
		<-ctx.Done()
	}
	end()
	return errors.Join(err, <-ended)
}

// setUp loads the harbour's own set-up file. On a day of known outcomes what comes every
// few seconds is paused.
func setUp(ctx context.Context, mule *client.Client, often bool) error {
	setup, err := config.ParseSetup("hmule.yaml", harbour.Setup())
	if err != nil {
		return err
	}
	paused := true
	for name, s := range setup.Schedules {
		if s.Every != 0 && !often {
			s.Paused = &paused
			setup.Schedules[name] = s
		}
	}
	if _, err = mule.PutSetup(ctx, api.SetupRequest{Setup: setup.Setup, Adopt: true}); err != nil || !often {
		return err
	}
	for name, label := range harbour.Followed() {
		if _, err := mule.Follow(ctx, name, label); err != nil {
			return err
		}
	}
	return nil
}

// awaited is a planned job under its id.
type awaited struct {
	id     int64
	wanted job.State
}

func enqueueFixed(ctx context.Context, mule *client.Client) (all []awaited, err error) {
	for _, p := range harbour.Fixed() {
		j, err := mule.Enqueue(ctx, p.Spec)
		if err == nil && p.Cancel {
			_, err = mule.CancelJob(ctx, j.ID)
		}
		if err != nil {
			return nil, err
		}
		all = append(all, awaited{j.ID, p.Wanted})
	}
	for _, p := range harbour.FixedVoyages() {
		b, err := mule.MakeBatch(ctx, p.NewBatch)
		if err != nil {
			return nil, err
		}
		for i, id := range b.IDs {
			all = append(all, awaited{id, p.Wanted[i]})
		}
	}
	return all, nil
}

// fixedWithin is how long the day of known outcomes may take.
const fixedWithin = time.Minute

// checkFixed waits until every job is where it was planned to be, and tells by
// state how many are.
func (a *app) checkFixed(ctx context.Context, mule *client.Client, jobs []awaited) error {
	until := time.Now().Add(fixedWithin)
	var wrong []string
	wanted, came := map[job.State]int{}, map[job.State]int{}
	for _, w := range jobs {
		wanted[w.wanted]++
		j, err := mule.Job(ctx, w.id)
		for ; err == nil && j.State != w.wanted && time.Now().Before(until); j, err = mule.Job(ctx, w.id) {
			select {
			case <-time.After(50 * time.Millisecond):
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		if err != nil {
			return err
		}
		came[j.State]++
		if j.State != w.wanted {
			wrong = append(wrong, fmt.Sprintf("job %d (%s) is %s, not %s", j.ID, j.Task, j.State, w.wanted))
		}
	}
	o := present.New(a.out)
	var rows [][]string
	for _, s := range job.States() {
		if wanted[s]+came[s] > 0 {
			rows = append(rows, []string{present.State(s), fmt.Sprint(wanted[s]), fmt.Sprint(came[s])})
		}
	}
	o.Table([]present.Column{{Head: "state"}, {Head: "planned", Right: true}, {Head: "came", Right: true}}, rows)
	for _, text := range wrong {
		o.Line("%s", text)
	}
	if len(wrong) > 0 {
		return fmt.Errorf("%d of %d jobs did not end as planned", len(wrong), len(jobs))
	}
	o.Line("All %d jobs are in their planned states.", len(jobs))
	return nil
}
