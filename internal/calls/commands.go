package calls

import (
	"context"
	"fmt"
	"sync/atomic"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/shell"
	"humblemule.example/job"
	"humblemule.example/worker"
)

// Commands are those that alerts may run, by name. They stand in the file that the service is started with;
// nothing of them can be set through the API.
type Commands struct {
	byName atomic.Pointer[map[string]string]
}

// commandTakes is how long a command may take.
const commandTakes = time.Minute

// Set changes the commands.
func (c *Commands) Set(byName map[string]string) { c.byName.Store(&byName) }

// MayRun says why there is no command of a name.
func (c *Commands) MayRun(name string) error {
	if _, there := c.of(name); !there {
		return fmt.Errorf("%q is not a command of this service; name it under commands in the file that the service is started with", name)
	}
	return nil
}

func (c *Commands) of(name string) (command string, there bool) {
	if all := c.byName.Load(); all != nil {
		command, there = (*all)[name]
	}
	return command, there
}

// run runs the command of a message, which is its standard input.
func (c *Commands) run(ctx context.Context, n *api.Notice) error {
	command, there := c.of(n.Command)
	if !there {
		return worker.GiveUp(&fault{"command_gone", c.MayRun(n.Command)})
	}
	ctx, cancel := context.WithTimeoutCause(ctx, commandTakes, &fault{"command", fmt.Errorf("command %s has not ended within %s, and was stopped", n.Command, job.Duration(commandTakes))})
	defer cancel()
	return shell.Once(ctx, command, job.JSON(n.Event), []string{"HMULE_SUBJECT=" + n.Event.Subject})
}
