//go:build unix

package shell

import (
	"os/exec"
	"syscall"
)

// found tells whether the shell finds a command.
func found(word string) bool {
	return exec.Command("/bin/sh", "-c", `command -v -- "$1" >/dev/null`, "sh", word).Run() == nil
}

// shell is what the shell is started with, to run a command.
func shell(command string) (name string, args []string) {
	return "/bin/sh", []string{"-c", command}
}

// group is a command with all that it has started: a process group.
type group struct{ cmd *exec.Cmd }

// groupOf prepares a command to be the first of a group.
func groupOf(cmd *exec.Cmd, _ string) *group {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	return &group{cmd}
}

// started takes the command into the group, once it runs.
func (g *group) started() error { return nil }

// end asks all of the group to end, and kill ends it.
func (g *group) end() error { return syscall.Kill(-g.cmd.Process.Pid, syscall.SIGTERM) }

func (g *group) kill() { syscall.Kill(-g.cmd.Process.Pid, syscall.SIGKILL) }

// close lets go of the group when its first process has ended.
func (g *group) close() {}
