package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/cli/present"
	"humblemule.example/internal/config"
	"humblemule.example/internal/shell"
	"humblemule.example/job"
	"humblemule.example/worker"
)

// dev is how service, workers and schedules for one's own machine are asked for.
type dev struct {
	serving
	commands, workers []string
	watch, queues     []string
	slots             int
}

func (a *app) devCommand() *cobra.Command {
	var d dev
	var data string
	c := &cobra.Command{
		Use: "dev", Short: "Start service, workers, schedules and console for your own machine, with one command", Args: args(cobra.NoArgs),
		Example: "  hmule dev --run log.pack='./pack.sh' --watch .\n  hmule dev --worker 'go run ./cmd/worker' --watch . --config hmule.yaml",
		Long: `Start service, workers, schedules and console for your own machine, with one command.

The data file is a new one, which is removed at the end, unless --data names one. The set-up
file of --config is loaded, with its schedules.

Jobs are run by the commands of --run, as by hmule pool, or by a worker of your own: --worker
COMMAND starts it with HMULE_SERVER set. When a file in a folder of --watch changes, the workers
are started anew.`,
		RunE: func(c *cobra.Command, _ []string) error {
			if len(d.commands)+len(d.workers) == 0 {
				return usageError{errors.New("nothing would run the jobs; name a task and its command, as in --run log.pack='./pack.sh', or your own worker, as in --worker 'go run ./cmd/worker'")}
			}
			if d.slots < 1 {
				return usageError{fmt.Errorf("--slots %d is not a valid number; give 1 or more", d.slots)}
			}
			file, err := d.read(c)
			if err != nil {
				return usageError{err}
			}
			if !d.isSet("data") {
				dir, err := os.MkdirTemp("", "hmule-dev-")
				if err != nil {
					return err
				}
				defer os.RemoveAll(dir)
				d.Data, data = filepath.Join(dir, "dev.db"), "a new file, which is removed at the end"
			}
			ctx, stop := whileAttached(c.Context())
			defer stop()
			return a.dev(ctx, d, file, data)
		},
	}
	a.logFlags(c)
	d.flags(c, "data", "listen")
	f := c.Flags()
	f.StringArrayVar(&d.commands, "run", nil, "task and the command that does it, as TASK=COMMAND; may be given again")
	f.StringArrayVar(&d.workers, "worker", nil, "command that starts a worker of your own; may be given again")
	f.StringArrayVar(&d.watch, "watch", nil, "folder whose files start the workers anew when they change; may be given again")
	f.StringSliceVar(&d.queues, "queue", nil, "queues that the commands serve, beside those of the set-up file (common)")
	f.IntVar(&d.slots, "slots", 4, "how many jobs the commands run at once")
	return c
}

func (a *app) dev(ctx context.Context, d dev, file config.File, data string) error {
	log, err := a.log()
	if err != nil {
		return err
	}
	for _, command := range d.workers {
		if err := shell.Check(command); err != nil {
			return usageError{fmt.Errorf("--worker: %w", err)}
		}
	}
	if err := handle(worker.New(nil, worker.Options{Log: slog.New(slog.DiscardHandler)}), d.commands); err != nil {
		return err
	}
	files, err := newWatchedFiles(d.watch)
	if err != nil {
		return usageError{err}
	}
	s, err := open(d.serving, file.Setup, log)
	if err != nil {
		return err
	}
	out := a.forPeople(a.out)
	out.Line("%s", present.Strong("Humble Mule is ready."))
	if data == "" {
		data = d.Data
	}
	out.Facts([2]string{"console", s.address() + "/"}, [2]string{"api", s.address() + "/v1"}, [2]string{"data", data})
	out.Hint("hmule enqueue TASK '{…}' --server %s   Ctrl-C ends it.", s.address())

	serving, stop := context.WithCancel(context.WithoutCancel(ctx))
	defer stop()
	ended := make(chan error, 1)
	go func() { ended <- s.run(serving) }()
	onSecondSignal(ctx, func() { os.Exit(exitRefused) })
	err = d.work(ctx, s.address(), file, files, log, out)
	stop()
	return errors.Join(err, <-ended)
}

// work runs the workers, and starts them anew whenever files have changed, until ctx ends.
func (d *dev) work(ctx context.Context, server string, file config.File, files *watchedFiles, log *slog.Logger, out *present.Out) error {
	for {
		round, end := context.WithCancel(ctx)
		failed := make(chan error, 1)
		go func() { failed <- d.round(round, server, file, log) }()
		changed := make(chan string, 1)
		go func() { changed <- files.wait(round) }()
		select {
		case err := <-failed:
			end()
			if ctx.Err() != nil || err != nil {
				return err
			}
			return errors.New("all workers have ended")
		case name := <-changed:
			end()
			if err := <-failed; ctx.Err() != nil {
				return err
			}
			out.Line("%s has changed: the workers start anew.", name)
		}
	}
}

// round runs the workers until ctx ends, or one of them cannot go on.
func (d *dev) round(ctx context.Context, server string, file config.File, log *slog.Logger) error {
	ctx, end := context.WithCancel(ctx)
	defer end()
	var all sync.WaitGroup
	errs := make([]error, 1+len(d.workers))
	if len(d.commands) > 0 {
		all.Go(func() { errs[0] = d.pool(ctx, server, file, log) })
	}
	for i, command := range d.workers {
		all.Go(func() {
			for ctx.Err() == nil {
				err := shell.Program(ctx, command, []string{"HMULE_SERVER=" + server}, os.Stderr)
				if ctx.Err() != nil {
					return
				}
				log.Error("a worker has ended; it is started again when a file changes, or in ten seconds", "worker", command, "error", err)
				select {
				case <-time.After(10 * time.Second):
				case <-ctx.Done():
				}
			}
			errs[i+1] = nil
		})
	}
	all.Wait()
	return errors.Join(errs...)
}

// pool runs the commands of --run.
func (d *dev) pool(ctx context.Context, server string, file config.File, log *slog.Logger) error {
	m, err := client.New(server)
	if err != nil {
		return err
	}
	defer m.Close()
	const grace = 2 * time.Second
	pool := worker.New(m.Source(), worker.Options{Queues: d.served(file.Setup), Slots: d.slots, Name: "dev", Version: Version, Grace: grace, Log: log})
	if err := handle(pool, d.commands); err != nil {
		return err
	}
	return pool.Run(ctx)
}

// served are the queues in which jobs may come: those that were named, and all of the set-up.
func (d *dev) served(setup api.Setup) []string {
	queues := append([]string{}, d.queues...)
	queues = append(queues, slices.Sorted(maps.Keys(setup.Queues))...)
	for _, t := range setup.Tasks {
		queues = append(queues, t.Queue)
	}
	for _, s := range setup.Schedules {
		for _, spec := range s.Specs() {
			queues = append(queues, spec.Queue)
		}
	}
	queues = append(queues, job.DefaultQueue)
	slices.Sort(queues)
	return slices.DeleteFunc(slices.Compact(queues), func(q string) bool { return q == "" })
}

// watchedFiles are files whose changes are waited for.
type watchedFiles struct {
	folders []string
	seen    map[string]time.Time
}

const (
	// filesEvery is how often the files are looked at, and mostWatched how many there may be.
	filesEvery  = 300 * time.Millisecond
	mostWatched = 50_000
)

func newWatchedFiles(folders []string) (*watchedFiles, error) {
	w := &watchedFiles{folders: folders}
	for _, folder := range folders {
		if info, err := os.Stat(folder); err != nil || !info.IsDir() {
			return nil, fmt.Errorf("--watch %s is not a folder", folder)
		}
	}
	seen, err := w.look()
	w.seen = seen
	return w, err
}

// look finds when each file was written; not in folders that hold what is made of others.
func (w *watchedFiles) look() (map[string]time.Time, error) {
	all := map[string]time.Time{}
	for _, folder := range w.folders {
		err := filepath.WalkDir(folder, func(path string, e fs.DirEntry, err error) error {
			switch {
			case err != nil:
				return nil // it has gone meanwhile
			case e.IsDir() && path != folder && (strings.HasPrefix(e.Name(), ".") || e.Name() == "node_modules" || e.Name() == "__pycache__"):
				return filepath.SkipDir
			case e.Type().IsRegular() && !strings.Contains(e.Name(), ".db") && !strings.HasSuffix(e.Name(), "~"):
				if info, err := e.Info(); err == nil {
					all[path] = info.ModTime()
				}
			}
			if len(all) > mostWatched {
				return fmt.Errorf("--watch %s holds more than %d files; name a folder with less", folder, mostWatched)
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return all, nil
}

// wait waits until a file has changed, and names it; it never answers where none is watched, but
// when ctx ends.
func (w *watchedFiles) wait(ctx context.Context) string {
	tick := time.NewTicker(filesEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return ""
		case <-tick.C:
		}
		now, err := w.look()
		if err != nil {
			continue
		}
		was := w.seen
		w.seen = now
		for _, path := range slices.Sorted(maps.Keys(now)) {
			if before, there := was[path]; !there || !before.Equal(now[path]) {
				return path
			}
		}
		for path := range was {
			if _, there := now[path]; !there {
				return path
			}
		}
	}
}
