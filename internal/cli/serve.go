package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math"
	"net"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"humblemule.example/api"
	"humblemule.example/internal/calls"
	"humblemule.example/internal/config"
	"humblemule.example/internal/console"
	"humblemule.example/internal/core/engine"
	"humblemule.example/internal/fields"
	"humblemule.example/internal/machine"
	"humblemule.example/internal/post"
	"humblemule.example/internal/reach"
	"humblemule.example/internal/secrets"
	"humblemule.example/internal/server"
	"humblemule.example/internal/spans"
	"humblemule.example/job"
)

// serving is how a service is asked for.
type serving struct {
	config.Service
	config string
	// backups are the rules of backups that the set-up file holds, and secrets what it names as such.
	backups api.BackupRules
	secrets map[string]secrets.Secret
	// calls say what the service may call, mail by which server it sends mail, and commands what alerts may run.
	calls    reach.Rules
	mail     post.Server
	commands map[string]string
	given    map[string]string // flags that were given
}

// flags lets a command take settings of the service, and the set-up file.
func (s *serving) flags(c *cobra.Command, names ...string) {
	c.Flags().StringVar(&s.config, "config", fromEnv("HMULE_CONFIG", ""), "set-up file (HMULE_CONFIG)")
	for _, f := range config.Flags() {
		if slices.Contains(names, f.Name) {
			c.Flags().String(f.Name, f.BuiltIn, f.Usage)
		}
	}
}

// read finds the settings: from flags, variables and the set-up file.
func (s *serving) read(c *cobra.Command) (config.File, error) {
	s.given = map[string]string{}
	c.Flags().Visit(func(f *pflag.Flag) { s.given[f.Name] = f.Value.String() })
	return s.readAgain()
}

// readAgain reads the set-up file again.
func (s *serving) readAgain() (file config.File, err error) {
	if s.config != "" {
		file, err = config.ReadSetup(s.config)
	}
	var wrong error
	s.backups, s.secrets, s.calls, s.mail, s.commands = file.Backups, file.Secrets, file.Calls, file.Mail, file.Commands
	s.Service, wrong = config.Resolve(s.given, file)
	return file, errors.Join(err, wrong)
}

// isSet tells whether a setting is another than the built-in one.
func (s *serving) isSet(name string) bool {
	return slices.ContainsFunc(s.Settings, func(v api.Setting) bool { return v.Name == name && v.From != api.SettingBuiltIn })
}

// service is a running service.
type service struct {
	asked    serving
	engine   *engine.Engine
	listener net.Listener
	// metrics listens for those who want figures alone; nil for nobody.
	metrics net.Listener
	// spans sends traces; nil where nobody asks for them.
	spans    *spans.Exporter
	server   *server.Server
	vault    *secrets.Vault
	reach    *reach.Reach
	caller   *calls.Caller
	office   *post.Office
	commands *calls.Commands
	log      *slog.Logger
	// certificates are those of TLS; nil without it.
	certificates *certificates
	// reread hears when files are to be read again; nil for never.
	reread chan os.Signal
}

// open opens the data file and the address, and loads a set-up; nothing is answered yet.
func open(asked serving, setup api.Setup, log *slog.Logger) (*service, error) {
	s := &service{asked: asked, vault: secrets.New(asked.secrets), reach: reach.New(asked.calls), commands: new(calls.Commands), log: log}
	s.commands.Set(asked.commands)
	s.office = post.New(asked.mail, s.vault, job.TaskMail)
	tokens, err := s.readSecrets()
	if err != nil {
		return nil, err
	}
	l, err := listenOn(asked.Listen, tokens != nil)
	if err != nil {
		return nil, err
	}
	s.listener = l
	if s.certificates != nil {
		s.listener = s.certificates.secured(l)
	} else if !isLoopback(asked.Listen) {
		log.Warn("the service is open to other machines without TLS: others on the network can read tokens and payloads; give --tls-cert and --tls-key, or put a TLS proxy in front of it")
	}
	options := engine.Options{Log: log, MaxPayload: asked.MaxPayload, MinFree: asked.MinFree, DropOlder: asked.DropOlder, Version: Version, Secrets: s.vault, MayCall: s.reach.MayCall, Mails: s.office.Sends, MayRun: s.commands.MayRun}
	if spans.Asked() {
		if s.spans, err = spans.New(context.Background(), Version, log); err != nil {
			l.Close()
			return nil, usageError{err}
		}
		options.Tracer = s.spans
	}
	if s.engine, err = engine.Open(asked.Data, options); err != nil {
		l.Close()
		return nil, err
	}
	for _, text := range s.vault.Unreadable() {
		log.Error(text)
	}
	if s.spans != nil {
		s.spans.Of(s.engine.StoreID())
	}
	if err := errors.Join(s.engine.SetBackupRules(asked.backups), s.listenForMetrics()); err != nil {
		l.Close()
		return nil, errors.Join(err, s.engine.Close())
	}
	s.caller = calls.NewCaller(s.reach, s.vault, s.engine, "humble-mule/"+Version)
	s.server = server.New(s.engine, server.Options{MaxBodies: asked.MaxBodies, Version: Version, Commit: Commit, LogRequests: asked.LogRequests, BasePath: asked.BasePath,
		Forwarders: server.Forwarders{Networks: asked.Forwarders, Unix: asked.ForwardersUnix}, Console: console.Files(), Log: log, Settings: s.inForce, Secrets: s.vault, OpenHooks: asked.OpenHooks})
	if tokens != nil {
		s.server.SetTokens(tokens)
	}
	if err := s.loadSetup(context.Background(), setup); err != nil {
		l.Close()
		return nil, errors.Join(err, s.engine.Close())
	}
	return s, nil
}

// listenForMetrics opens the address of figures, where one is given.
func (s *service) listenForMetrics() (err error) {
	at := s.asked.MetricsListen
	if at == "" {
		return nil
	}
	if s.metrics, err = listenAt("--metrics-listen", at); err != nil {
		return err
	}
	s.log.Info("metrics are answered", "at", "http://"+s.metrics.Addr().String()+"/metrics")
	if !isLoopback(at) {
		s.log.Warn("metrics are open to other machines without a token: others on the network can read the names of queues, tasks and schedules")
	}
	return nil
}

// inForce tells the settings of the service, also those that the machine suggests.
func (s *service) inForce() []api.Setting {
	all := slices.Clone(s.asked.Settings)
	for i := range all {
		v := &all[i]
		mebibytes := func(n int64) { v.Value = fields.ValueOf(fmt.Sprintf("%dMiB", n>>20)) }
		switch fromGo := os.Getenv("GOMEMLIMIT"); {
		case v.From != api.SettingBuiltIn:
		case v.Name == "min_free":
			mebibytes(s.engine.MinFree())
		case v.Name == "memory_limit" && fromGo != "":
			v.From, v.Where, v.Value = api.SettingByVariable, "GOMEMLIMIT", fields.ValueOf(fromGo)
		case v.Name == "memory_limit":
			mebibytes(memoryLimit(0))
		}
	}
	return append(all, s.ofCalls()...)
}

// ofCalls tells what the service may call, and what a proxy changes about it.
func (s *service) ofCalls() []api.Setting {
	rules := s.reach.Rules()
	allow := api.Setting{Of: "calls", Name: "allow", Value: fields.ValueOf(strings.Join(rules.Allow, ", ")), From: api.SettingBuiltIn}
	slots := api.Setting{Of: "calls", Name: "slots", Value: fields.ValueOf(s.asked.calls.NumSlots()), From: api.SettingBuiltIn}
	if len(rules.Allow) > 0 {
		allow.From = api.SettingByFile
	}
	if s.asked.calls.Slots != nil {
		slots.From = api.SettingByFile
	}
	all := []api.Setting{allow, slots}
	if name := calls.ProxiedBy(); name != "" {
		all = append(all, api.Setting{Of: "calls", Name: "proxy", Value: fields.ValueOf("finds the addresses; only hosts of allow count"), From: api.SettingByVariable, Where: name})
	}
	return all
}

// loadSetup makes queues and tasks what the set-up file defines, where one is given.
func (s *service) loadSetup(ctx context.Context, setup api.Setup) error {
	if s.asked.config == "" {
		return nil
	}
	ctx = engine.WithCall(ctx, engine.Call{Principal: filepath.Base(s.asked.config)})
	diff, err := s.engine.Load(ctx, api.SetupRequest{Setup: setup, DryRun: true})
	if err != nil || len(diff.Changes) == 0 {
		return err // what changes nothing is not a valid action
	}
	if diff, err = s.engine.Load(ctx, api.SetupRequest{Setup: setup, MayRemove: true}); err != nil {
		return fmt.Errorf("%s: %w", s.asked.config, err)
	}
	s.log.Info("the set-up file was loaded", "file", s.asked.config, "changes", len(diff.Changes), "same", diff.Same)
	if diff.Operation != 0 {
		s.log.Warn("finished jobs that are no longer kept are being removed; to bring them back within ten minutes: hmule operation undo ID", "operation", diff.Operation)
	}
	return nil
}

// reload reads the set-up file again and loads it. What only a start can change waits for
// the next one.
func (s *service) reload(ctx context.Context) error {
	next := s.asked
	file, err := next.readAgain()
	if err != nil {
		return err
	}
	for i, v := range next.Settings {
		if string(v.Value) != string(s.asked.Settings[i].Value) {
			s.log.Warn("this setting takes effect at the next start of the service", "setting", v.Name, "now", plain(s.asked.Settings[i].Value), "then", plain(v.Value))
		}
	}
	s.vault.Set(file.Secrets)
	s.reach.Set(file.Calls)
	s.office.Set(file.Mail)
	s.commands.Set(file.Commands)
	for _, text := range s.vault.Unreadable() {
		s.log.Error(text)
	}
	return errors.Join(s.loadSetup(ctx, file.Setup), s.engine.SetBackupRules(file.Backups))
}

// readSecrets reads the tokens and the certificate; nil where none are asked for.
func (s *service) readSecrets() (tokens []server.Token, err error) {
	if (s.asked.TLSCert == "") != (s.asked.TLSKey == "") {
		return nil, usageError{errors.New("--tls-cert and --tls-key belong together; give both or neither")}
	}
	if s.asked.TLSCert != "" {
		if s.certificates == nil {
			s.certificates, err = newCertificates(s.asked.TLSCert, s.asked.TLSKey, s.log)
		} else {
			err = s.certificates.read()
		}
		if err != nil {
			return nil, err
		}
	}
	if s.asked.Tokens == "" {
		return nil, nil
	}
	entries, err := config.ReadTokens(s.asked.Tokens, roleWords())
	for _, e := range entries {
		tokens = append(tokens, server.Token{Name: e.Name, Role: server.Role(e.Role), Hash: e.Hash, Expires: e.Expires})
	}
	return tokens, err
}

// readAgainWhenAsked reads set-up, tokens and certificate again whenever a signal comes, until ctx
// ends. What cannot be read leaves everything as it was.
func (s *service) readAgainWhenAsked(ctx context.Context) {
	for {
		select {
		case <-s.reread:
		case <-ctx.Done():
			return
		}
		if err := s.reload(ctx); err != nil {
			s.log.Error("the set-up file was not loaded; its earlier settings stay", "error", err)
		}
		tokens, err := s.readSecrets()
		switch {
		case err != nil:
			s.log.Error("tokens and certificate stay as they were", "error", err)
		case tokens == nil && s.asked.config == "":
			s.log.Info("nothing to reload: the service was started without --tokens and --config")
		case tokens != nil:
			s.server.SetTokens(tokens)
			s.log.Info("tokens and certificate were read again", "tokens", len(tokens))
		}
	}
}

// whileAttached gives a context that ends when the terminal goes too, unless whoever has started the command
// wants it to outlive that (nohup).
func whileAttached(ctx context.Context) (context.Context, context.CancelFunc) {
	if len(hangUp) == 0 || signal.Ignored(hangUp[0]) {
		return context.WithCancel(ctx)
	}
	return signal.NotifyContext(ctx, hangUp...)
}

// address is where the service answers, with its base path.
func (s *service) address() string {
	scheme := "http://"
	if s.certificates != nil {
		scheme = "https://"
	}
	if s.listener.Addr().Network() == "unix" {
		return "unix:" + s.listener.Addr().String()
	}
	return scheme + s.listener.Addr().String() + s.asked.BasePath
}

// A service keeps little in memory and makes much garbage: collecting less often
// costs some megabytes and saves a tenth of its CPU time. GOGC overrides it.
const gcPercent = 400

// metricsTimeout is how long a request of figures may take.
const metricsTimeout = 30 * time.Second

// run answers until ctx ends, then closes the data file.
func (s *service) run(ctx context.Context) error {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(gcPercent)
	}
	if s.asked.MemoryLimit != 0 || os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(memoryLimit(s.asked.MemoryLimit))
	}
	go s.readAgainWhenAsked(ctx)
	if s.metrics != nil {
		figures := &http.Server{Handler: s.server.MetricsHandler(), ReadTimeout: metricsTimeout, WriteTimeout: metricsTimeout}
		go figures.Serve(s.metrics)
		defer figures.Close()
	}
	made := s.makeCalls(ctx)
	err := errors.Join(s.server.Serve(ctx, s.listener), <-made, s.engine.Close())
	if s.spans != nil {
		err = errors.Join(err, s.spans.Close())
	}
	return err
}

// makeCalls makes the calls of jobs, until ctx ends and those under way are over.
func (s *service) makeCalls(ctx context.Context) <-chan error {
	ended := make(chan error, 1)
	slots := s.asked.calls.NumSlots()
	if slots == 0 {
		ended <- nil
		return ended
	}
	own := calls.NewSlots(s.engine, s.caller, s.office, s.commands, slots, Version, s.log)
	s.engine.TellBy(own.Send)
	go func() {
		defer s.caller.Close()
		ended <- own.Run(ctx)
	}()
	return ended
}

func (a *app) serveCommand() *cobra.Command {
	var asked serving
	c := &cobra.Command{
		Use: "serve", Short: "Start the service", Args: args(cobra.NoArgs),
		Example: "  hmule serve --data harbour.db\n  hmule serve --listen 0.0.0.0:6853 --tokens tokens.yaml --tls-cert cert.pem --tls-key key.pem",
		Long: `Start the service.

Without --tokens it answers on this machine only, and everybody here may do everything.
With --tokens every request needs a token of the file, with a role: reader, producer,
worker, operator or keeper; hmule token new makes them. Clients show theirs by HMULE_TOKEN.
With --config everything is set as the file defines it, but for what a flag or a variable
says otherwise; see: hmule setup --help, and for what is in force: hmule setup show.
SIGHUP reads set-up file, secrets, tokens and certificate again.`,
		RunE: func(c *cobra.Command, _ []string) error {
			log, err := a.log()
			if err != nil {
				return err
			}
			file, err := asked.read(c)
			if err != nil {
				return usageError{err}
			}
			reread := make(chan os.Signal, 1)
			if len(hangUp) > 0 { // none would stand for all
				signal.Notify(reread, hangUp...) // before anything takes time: a signal that nobody hears ends the process
				defer signal.Stop(reread)
			}
			s, err := open(asked, file.Setup, log)
			if err != nil {
				return err
			}
			s.reread = reread
			full, err := filepath.Abs(asked.Data)
			if err != nil {
				full = asked.Data
			}
			log.Info("service starts", "version", Version, "commit", Commit, "data", full, "console", s.address()+"/", "api", s.address()+"/v1")
			go s.tellSystemd(c.Context())
			err = s.run(c.Context())
			log.Info("service ends")
			return err
		},
	}
	a.logFlags(c)
	asked.flags(c, "data", "listen", "tokens", "tls-cert", "tls-key", "max-payload", "min-free", "max-bodies", "memory-limit", "keep-older", "log-requests", "base-path", "forwarders", "open-hooks", "metrics-listen")
	return c
}

// memoryLimit is what is asked for or, where nothing is, 70 % of the memory that this
// machine, or the control group of this process, has.
func memoryLimit(asked int64) int64 {
	if asked != 0 {
		return asked
	}
	if has := machine.Memory(); has > 0 {
		return has / 10 * 7
	}
	return math.MaxInt64
}
