package shell

import (
	"errors"
	"os/exec"
	"syscall"
	"unsafe"

	"golang.org/x/sys/windows"
)

// found tells whether the shell finds a command: a program, or a word of its own.
func found(word string) bool {
	if _, err := exec.LookPath(word); err == nil {
		return true
	}
	return exec.Command("cmd", "/C", "help", word).Run() == nil
}

// shell is what the shell is started with, to run a command.
func shell(string) (name string, args []string) { return "cmd", nil }

// group is a command with all that it has started: a job object.
type group struct {
	cmd    *exec.Cmd
	object windows.Handle
}

// groupOf prepares a command to be the first of a group.
func groupOf(cmd *exec.Cmd, command string) *group {
	// The command line goes to cmd as it stands: it does not read quotes as others do.
	cmd.SysProcAttr = &syscall.SysProcAttr{CmdLine: `cmd /S /C "` + command + `"`, CreationFlags: windows.CREATE_NEW_PROCESS_GROUP}
	return &group{cmd: cmd}
}

// started takes the command into the group, once it runs. What it has started by then is not
// part of it.
func (g *group) started() error {
	object, err := windows.CreateJobObject(nil, nil)
	if err != nil {
		return err
	}
	g.object = object
	limits := windows.JOBOBJECT_EXTENDED_LIMIT_INFORMATION{}
	limits.BasicLimitInformation.LimitFlags = windows.JOB_OBJECT_LIMIT_KILL_ON_JOB_CLOSE
	if _, err := windows.SetInformationJobObject(object, windows.JobObjectExtendedLimitInformation, uintptr(unsafe.Pointer(&limits)), uint32(unsafe.Sizeof(limits))); err != nil {
		return err
	}
	process, err := windows.OpenProcess(windows.PROCESS_SET_QUOTA|windows.PROCESS_TERMINATE, false, uint32(g.cmd.Process.Pid))
	if err != nil {
		return err
	}
	return errors.Join(windows.AssignProcessToJobObject(object, process), windows.CloseHandle(process))
}

// end asks all of the group to end, and kill ends it.
func (g *group) end() error {
	return windows.GenerateConsoleCtrlEvent(windows.CTRL_BREAK_EVENT, uint32(g.cmd.Process.Pid))
}

func (g *group) kill() {
	if g.object != 0 {
		windows.TerminateJobObject(g.object, 1)
	}
}

// close lets go of the group when its first process has ended; what of it is left is ended.
func (g *group) close() {
	if g.object != 0 {
		windows.CloseHandle(g.object)
	}
}
