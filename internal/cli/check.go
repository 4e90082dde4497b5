package cli

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/cli/present"
	"humblemule.example/internal/config"
	"humblemule.example/internal/core/engine"
	"humblemule.example/internal/machine"
	"humblemule.example/internal/nearest"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

// findings gathers them in their order.
type findings struct{ all []api.Finding }

func (f *findings) add(kind api.FindingKind, what, format string, args ...any) {
	f.all = append(f.all, api.Finding{Kind: kind, What: what, Summary: fmt.Sprintf(format, args...)})
}

// lines adds each line of an error as a fault of its own.
func (f *findings) lines(what string, err error) {
	for line := range strings.Lines(err.Error()) {
		f.add(api.FoundWrong, what, "%s", strings.TrimSpace(line))
	}
}

func (f *findings) wrong() (n int) {
	for _, x := range f.all {
		if x.Kind == api.FoundWrong {
			n++
		}
	}
	return n
}

func (a *app) checkCommand() *cobra.Command {
	var asked serving
	c := &cobra.Command{
		Use: "check", Short: "List everything that is wrong: set-up, data file, disk, clock, rights, queues, workers", Args: args(cobra.NoArgs),
		Example: "  hmule check --config hmule.yaml --data harbour.db",
		Long: `List all that is wrong: with the set-up file, the tokens file, the certificate, the data file
and its disk, rights, and, where a service answers, with its clock, its queues and its workers. Nothing is
changed. The status is 1 where anything is wrong.`,
		RunE: func(c *cobra.Command, _ []string) error {
			var f findings
			setup := f.files(c, &asked)
			if asked.isSet("data") {
				f.data(asked.Data)
			}
			m, err := a.client()
			if err != nil {
				return err
			}
			f.service(c.Context(), m, setup)
			if err := a.show(map[string]any{"findings": f.all}, nil, func(o *present.Out) { showFindings(o, &f) }); err != nil {
				return err
			}
			if f.wrong() > 0 {
				return errFoundWrong
			}
			return nil
		},
	}
	asked.flags(c, "data", "tokens", "tls-cert", "tls-key")
	return c
}

// errFoundWrong is said already, line by line.
var errFoundWrong = errors.New("something is wrong; see above")

// files checks the files that set up a service, and gives the set-up they hold; nil where
// it cannot be read.
func (f *findings) files(c *cobra.Command, asked *serving) (setup *api.Setup) {
	file, err := asked.read(c)
	if err != nil {
		f.lines("set-up", err)
	} else if asked.config != "" {
		setup = &file.Setup
		f.add(api.FoundGood, "set-up", "%s defines %s, %s", asked.config, many(int64(len(file.Queues)), "queue"), many(int64(len(file.Tasks)), "task")+" and "+many(int64(len(file.Schedules)), "schedule"))
	}
	if asked.Tokens != "" {
		if at, err := os.Stat(asked.Tokens); err == nil && at.Mode().Perm()&0o022 != 0 {
			f.add(api.FoundWrong, "rights", "other users can write the tokens file %s and give themselves access; run: chmod go-w %s", asked.Tokens, asked.Tokens)
		}
		if tokens, err := config.ReadTokens(asked.Tokens, roleWords()); err != nil {
			f.lines("tokens", err)
		} else {
			f.add(api.FoundGood, "tokens", "%s holds %s", asked.Tokens, many(int64(len(tokens)), "token"))
		}
	}
	f.certificate(asked)
	return setup
}

// soonOver is how long before its end a certificate is told of.
const soonOver = 14 * 24 * time.Hour

// certificate checks the certificate, and that its key is nobody else's to read.
func (f *findings) certificate(asked *serving) {
	if asked.TLSCert == "" && asked.TLSKey == "" {
		return
	}
	pair, err := tls.LoadX509KeyPair(asked.TLSCert, asked.TLSKey)
	if err != nil {
		f.add(api.FoundWrong, "tls", "%v", err)
		return
	}
	switch left := time.Until(pair.Leaf.NotAfter); {
	case left < 0:
		f.add(api.FoundWrong, "tls", "the certificate %s expired %s ago; renew it, then send the service SIGHUP", asked.TLSCert, sentence.Roughly(-left))
	case left < soonOver:
		f.add(api.FoundNote, "tls", "the certificate %s expires in %s", asked.TLSCert, sentence.Roughly(left))
	default:
		f.add(api.FoundGood, "tls", "the certificate %s is valid for %s", asked.TLSCert, sentence.Roughly(left))
	}
	if at, err := os.Stat(asked.TLSKey); err == nil && at.Mode().Perm()&0o077 != 0 {
		f.add(api.FoundWrong, "rights", "other users can read the key %s; run: chmod 600 %s", asked.TLSKey, asked.TLSKey)
	}
}

// rights checks that a service may write a data file, or make it.
func (f *findings) rights(path string) {
	what := path
	if _, err := os.Stat(path); err != nil {
		what = filepath.Dir(path)
	}
	if err := machine.Usable(what); err != nil {
		f.add(api.FoundWrong, "rights", "%s cannot be written by this account (%v)", what, err)
	}
}

// leastFree is the room on a disk below which a service is in danger.
const leastFree = 1 << 30

// data checks a data file and its disk.
func (f *findings) data(path string) {
	f.rights(path)
	i, err := engine.Inspect(path)
	switch {
	case err != nil:
		f.add(api.FoundWrong, "data", "%v", err)
		return
	case !i.Exists:
		f.add(api.FoundNote, "data", "%s does not exist yet; the service creates it", path)
	case i.Schema < i.Known:
		f.add(api.FoundNote, "data", "%s has schema %d; the next start of the service converts it to %d", path, i.Schema, i.Known)
	default:
		f.add(api.FoundGood, "data", "%s has schema %d, %s%s", path, i.Schema, bytesOf(i.Bytes), map[bool]string{true: "; a service has it open"}[i.InUse])
	}
	if least := max(leastFree, i.Bytes/4); i.Free < least {
		f.add(api.FoundWrong, "disk", "%s are free on the disk of %s, less than %s: when the disk is full, no job is accepted; free some space", bytesOf(i.Free), path, bytesOf(least))
	} else {
		f.add(api.FoundGood, "disk", "%s are free", bytesOf(i.Free))
	}
}

func bytesOf(n int64) string {
	switch {
	case n < 1<<20:
		return fmt.Sprintf("%.0f KiB", float64(n)/(1<<10))
	case n < 1<<30:
		return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20))
	}
	return fmt.Sprintf("%.1f GiB", float64(n)/(1<<30))
}

// mostSkew is how far the clocks of two machines may be apart without harm.
const mostSkew = 2 * time.Second

// service checks what answers: its clock, its queues and workers, and whether the set-up
// is in force.
func (f *findings) service(ctx context.Context, m *client.Client, setup *api.Setup) {
	began := time.Now()
	stats, err := m.Stats(ctx, "")
	if err != nil {
		f.add(api.FoundNote, "service", "%v", err)
		f.references(setup, nil)
		return
	}
	f.add(api.FoundGood, "service", "it answers, with %s", many(int64(len(stats.Queues)), "queue"))
	apart := stats.AsOf.Sub(job.At(began.Add(time.Since(began) / 2)))
	if apart.Abs() > mostSkew {
		f.add(api.FoundWrong, "clock", "the clocks of the service and of this machine differ by %s: scheduled jobs follow the service's; synchronize both with NTP", sentence.Roughly(apart.Abs()))
	} else {
		f.add(api.FoundGood, "clock", "the clocks of the service and of this machine agree")
	}
	found, err := m.Check(ctx)
	if err != nil {
		f.add(api.FoundWrong, "service", "its findings could not be read: %v", err)
	}
	for _, x := range found {
		f.add(x.Kind, x.What, "%s", present.Local(x.Summary))
	}
	if n := stats.Counts[job.Dead]; n > 0 {
		f.add(api.FoundNote, "jobs", "%s; see: hmule dead list", many(n, "dead letter"))
	}
	f.references(setup, stats.Queues)
	if setup == nil {
		return
	}
	diff, err := m.PutSetup(ctx, api.SetupRequest{Setup: *setup, DryRun: true})
	switch {
	case err != nil:
		f.add(api.FoundNote, "set-up", "it could not be compared with the service: %v", err)
	case len(diff.Changes) > 0:
		f.add(api.FoundNote, "set-up", "the service differs from the file in %s; see: hmule setup diff", strings.Join(namesOf(diff), ", "))
	default:
		f.add(api.FoundGood, "set-up", "the service is set as the file defines")
	}
}

func namesOf(d api.SetupDiff) (all []string) {
	for _, c := range d.Changes {
		all = append(all, c.Kind+" "+c.Name)
	}
	return all
}

// references checks that the tasks of a set-up wait in queues that something defines.
func (f *findings) references(setup *api.Setup, queues []api.Queue) {
	if setup == nil {
		return
	}
	known := []string{job.DefaultQueue}
	for name := range setup.Queues {
		known = append(known, name)
	}
	for _, q := range queues {
		known = append(known, q.Name)
	}
	refers := func(what, queue string) {
		if queue != "" && !slices.Contains(known, queue) {
			f.add(api.FoundWrong, "set-up", "%s waits in queue %s, which nothing defines%s", what, queue, sentence.Perhaps(nearest.To(queue, known)))
		}
	}
	for _, name := range slices.Sorted(maps.Keys(setup.Tasks)) {
		refers("task "+name, setup.Tasks[name].Queue)
	}
	for _, name := range slices.Sorted(maps.Keys(setup.Schedules)) {
		s := setup.Schedules[name]
		for _, spec := range s.Specs() {
			refers("schedule "+name, spec.Queue)
		}
	}
}

func showFindings(o *present.Out, f *findings) {
	for _, x := range f.all {
		ink := present.Quiet
		if x.Kind == api.FoundWrong {
			ink = present.Strong
		}
		o.Line("%s %s %s", ink(fmt.Sprintf("%-6s", x.Kind)), present.Quiet(fmt.Sprintf("%-8s", x.What)), x.Summary)
	}
	if n := f.wrong(); n > 0 {
		o.Line("%d wrong.", n)
	} else {
		o.Line("Nothing is wrong.")
	}
}
