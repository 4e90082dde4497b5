package cli

import (
	"fmt"
	"log/slog"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/check"
	"humblemule.example/internal/cli/present"
	"humblemule.example/internal/config"
	"humblemule.example/internal/sentence"
	"humblemule.example/internal/server"
	"humblemule.example/internal/shell"
	"humblemule.example/internal/text"
	"humblemule.example/job"
	"humblemule.example/worker"
)

func (a *app) poolCommand() *cobra.Command {
	var o worker.Options
	var weights map[string]int
	var commands []string
	var lease, grace, once, try string
	c := &cobra.Command{
		Use: "pool --run TASK=COMMAND", Short: "Start a worker pool that runs a shell command for each job", Args: args(cobra.MaximumNArgs(1)),
		Example: "  hmule pool --queue archive --slots 2 --run log.pack='./pack.sh'\n  hmule pool --once 42 --run log.pack='./pack.sh'\n  hmule pool --run log.pack='./pack.sh' --try log.pack '{\"shelf\":7}'",
		Long: `Start a worker pool that runs a shell command for each job.

The payload comes on standard input as JSON; HMULE_JOB_ID, HMULE_ATTEMPT, HMULE_TASK and
HMULE_QUEUE say what runs. The last line of standard output, where it is JSON, is the
result; all else that is written is the attempt's log. Lines of standard output tell more:

  @hmule progress 40 charts are drawn
  @hmule label berth berth-3
  @hmule enqueue {"task":"notice.publish","payload":{"berth":3}}   when this job is done
  @hmule skip the ship has sailed                                  and exit 0
  @hmule postpone 10m                                              and exit 0
  @hmule retry_in 30s                                              and fail

Exit status 0 is done, 65 gives the job up, all others fail the attempt. A COMMAND whose
first word is not found ends the pool at once with status 2. When the job is cancelled or
its time is up, the command and all it has started get SIGTERM, and SIGKILL 3 s later.

With --try TASK PAYLOAD the command runs once on a payload, with no service; what a service
would be told is shown.

SIGTERM or Ctrl-C ends the pool: it takes no more, lets commands finish within the grace
time, and gives the rest back. A second one ends the grace time.`,
		RunE: func(c *cobra.Command, given []string) error {
			if len(given) > 0 && try == "" {
				return usageError{fmt.Errorf("%q is not expected; a payload belongs to --try TASK", given[0])}
			}
			for flag, v := range map[string]struct {
				text string
				to   *time.Duration
			}{"lease": {lease, &o.Lease}, "grace": {grace, &o.Grace}} {
				var d job.Duration
				if err := readInto(flag, v.text, &d); err != nil {
					return err
				}
				*v.to = d.Go()
			}
			if len(weights) > 0 {
				o.Weights = weights
				o.Queues = append(o.Queues, slices.Sorted(maps.Keys(weights))...)
			}
			if try != "" {
				return a.tryPool(c, o, commands, try, given)
			}
			return a.pool(c, o, commands, once)
		},
	}
	a.logFlags(c)
	f := c.Flags()
	f.StringArrayVar(&commands, "run", nil, "task and the command that does it, as TASK=COMMAND; may be given again")
	f.StringSliceVar(&o.Queues, "queue", nil, "queues to serve, the first one emptied first (common)")
	f.StringToIntVar(&weights, "weight", nil, "queues that share the slots by weights instead, as QUEUE=WEIGHT; may be given again")
	f.IntVar(&o.Slots, "slots", 1, "how many jobs run at once")
	f.IntVar(&o.MaxSlots, "max-slots", 0, "let the pool grow to this many slots while jobs wait")
	f.IntVar(&o.Ahead, "ahead", 0, "how many jobs to hold that have not started, for tiny jobs; -1 chooses by measured run times")
	f.StringVar(&o.Name, "name", "", "the pool's name for people (default: the host's name)")
	f.StringVar(&lease, "lease", "45s", "length of a lease, 1s to 1h; it is renewed at a third of it")
	f.StringVar(&grace, "grace", "25s", "how long running commands may go on when the pool ends")
	f.StringVar(&try, "try", "", "run the command of this task once on PAYLOAD, with no service")
	f.StringVar(&once, "once", "", "run this one ready job in the foreground, out of its turn, and end")
	return c
}

func (a *app) pool(c *cobra.Command, o worker.Options, commands []string, once string) error {
	if len(commands) == 0 {
		return usageError{fmt.Errorf("--run is missing; name a task and its command, as in --run log.pack='./pack.sh'")}
	}
	if o.Slots < 1 || o.MaxSlots != 0 && o.MaxSlots < o.Slots {
		return usageError{fmt.Errorf("--slots %d and --max-slots %d do not fit together; --slots is 1 or more, --max-slots at least as many", o.Slots, o.MaxSlots)}
	}
	if o.Ahead < worker.Measured {
		return usageError{fmt.Errorf("--ahead %d is not a valid number of jobs; give 0 or more, or -1 to choose by measured run times", o.Ahead)}
	}
	m, err := a.clientWith()
	if err != nil {
		return err
	}
	defer m.Close()
	log, err := a.log()
	if err != nil {
		return err
	}
	o.Log, o.Version = log, Version
	pool := worker.New(m.Source(), o)
	if err := handle(pool, commands); err != nil {
		return err
	}
	onSecondSignal(c.Context(), func() {
		pool.EndNow()
		time.AfterFunc(2*shell.KillAfter, func() { os.Exit(exitRefused) })
	})
	if once == "" {
		return pool.Run(c.Context())
	}
	return a.runOnce(c, pool, m, once)
}

// handle makes commands the handlers of their tasks.
func handle(pool *worker.Pool, commands []string) error {
	for _, text := range commands {
		task, command, ok := strings.Cut(text, "=")
		if wrong := check.Name("task", task); !ok || wrong != nil || command == "" {
			return usageError{fmt.Errorf("--run %q is not TASK=COMMAND with the name of a task, such as log.pack='./pack.sh'", text)}
		}
		if err := shell.Check(command); err != nil {
			return usageError{fmt.Errorf("--run %s: %w", task, err)}
		}
		shell.Handle(pool, task, command)
	}
	return nil
}

// tryPool runs the command of a task once on a payload, with no service, and shows what a
// service would be told.
func (a *app) tryPool(c *cobra.Command, o worker.Options, commands []string, task string, given []string) error {
	s := job.Spec{Task: task}
	if len(given) == 1 {
		payload, err := payloadOf(given[0], c.InOrStdin())
		if err != nil {
			return err
		}
		s.Payload = payload
	}
	o.Log = slog.New(slog.DiscardHandler)
	pool := worker.New(nil, o)
	if err := handle(pool, commands); err != nil {
		return err
	}
	if !pool.Handles(task) {
		return usageError{fmt.Errorf("--try %s: no --run has a command for this task", task)}
	}
	j, err := api.LeasedAs(s, job.At(time.Now()))
	if err != nil {
		return err
	}
	settled := pool.Try(c.Context(), j)
	if err := a.show(settled, nil, func(out *present.Out) { showTried(out, settled) }); err != nil {
		return err
	}
	if settled.Outcome == job.OutcomeFailed || settled.Outcome == job.OutcomeGiveUp {
		return fmt.Errorf("the attempt ended as %s", settled.Outcome)
	}
	return nil
}

func showTried(o *present.Out, s api.Settlement) {
	for _, line := range s.Log {
		o.Line("%s", text.Visible(line))
	}
	delay := ""
	if s.Delay != 0 {
		delay = s.Delay.String()
	}
	facts := [][2]string{{"outcome", string(s.Outcome)}, {"reason", text.Visible(s.ReasonText)}, {"delay", delay}, {"result", text.Visible(string(s.Result))}}
	if s.Error != nil {
		facts = append(facts, [2]string{"error", text.Visible(strings.TrimPrefix(s.Error.Type+": "+s.Error.Message, ": "))})
	}
	for _, f := range s.Enqueue {
		facts = append(facts, [2]string{"follow-up", strings.TrimSpace(f.Task + " " + text.Visible(string(f.Payload)))})
	}
	for _, name := range slices.Sorted(maps.Keys(s.Labels)) {
		facts = append(facts, [2]string{"label", text.Visible(name + "=" + s.Labels[name])})
	}
	o.Facts(facts...)
}

// runOnce runs one job in the foreground and shows what became of it.
func (a *app) runOnce(c *cobra.Command, pool *worker.Pool, m *client.Client, text string) error {
	id, err := jobID(text)
	if err != nil {
		return err
	}
	if _, err := pool.RunOnce(c.Context(), id); err != nil {
		return err
	}
	j, err := m.Job(c.Context(), id)
	if err != nil {
		return err
	}
	if err := a.show(j, []string{fmt.Sprint(j.ID)}, func(o *present.Out) { showJob(o, j) }); err != nil {
		return err
	}
	if j.State != job.Done {
		return fmt.Errorf("job %d is %s", id, j.State)
	}
	return nil
}

func roleWords() (words []string) {
	for _, r := range server.Roles() {
		words = append(words, string(r))
	}
	return words
}

func (a *app) tokenCommand() *cobra.Command {
	return noun("token", "Make tokens for a service that other machines may use; list those that are good", a.tokenNewCommand(), a.tokenListCommand())
}

func (a *app) tokenNewCommand() *cobra.Command {
	var t config.Token
	var file string
	var lasts string
	c := &cobra.Command{
		Use: "new NAME", Short: "Make a token; it is shown once, and only its hash is kept", Args: args(cobra.ExactArgs(1)),
		Example: "  hmule token new harbour-office --role worker --tokens tokens.yaml\n  hmule token new ada --role operator --expires-in 90d",
		RunE: func(c *cobra.Command, given []string) error {
			t.Name = given[0]
			if !slices.Contains(roleWords(), t.Role) {
				return usageError{fmt.Errorf("--role %q is not a role; it is %s", t.Role, sentence.Or(roleWords()))}
			}
			if lasts != "" {
				d, err := job.ParseDuration(lasts)
				if err != nil || d <= 0 {
					return usageError{fmt.Errorf("--expires-in %q is not a span of time; write it as 90d or 12h", lasts)}
				}
				t.Expires = job.At(time.Now().Add(d.Go()).Truncate(time.Second))
			}
			secret := config.NewToken()
			t.Hash = server.HashToken(secret)
			if file != "" {
				if err := config.AddToken(file, t, roleWords()); err != nil {
					return err
				}
			}
			told := struct {
				Name  string `json:"name"`
				Role  string `json:"role"`
				Token string `json:"token"`
				Hash  string `json:"sha256"`
				// Expires is from when on it is not good any more.
				Expires job.Time `json:"expires,omitzero"`
			}{t.Name, t.Role, secret, t.Hash, t.Expires}
			return a.show(told, []string{t.Name}, func(o *present.Out) {
				o.Line("%s", secret)
				o.Hint("This is the token of %s, role %s. It is shown once; give it to its user as HMULE_TOKEN.", t.Name, t.Role)
				if file == "" {
					o.Hint("Add this to the tokens file of the service, under tokens:, and send the service SIGHUP:")
					o.Line("%s", strings.TrimSuffix(config.TokenEntry(t), "\n"))
				} else {
					o.Hint("%s has its hash. A running service reads the file again on SIGHUP.", file)
				}
			})
		},
	}
	c.Flags().StringVar(&t.Role, "role", "", "reader, producer, worker, operator or keeper")
	c.Flags().StringVar(&lasts, "expires-in", "", "how long it is good, such as 90d; for ever unless given")
	c.Flags().StringVar(&file, "tokens", fromEnv("HMULE_TOKENS", ""), "tokens file to add it to; created if it does not exist (HMULE_TOKENS)")
	return c
}
