// Package measure drives a service from outside and tells how fast it is: the parts that the
// bench and hmule bench share. It starts services of its own on files that are thrown away,
// speaks HTTP over connections that cost the machine little, and reads what a process has
// used of the machine.
package measure

import (
	"bytes"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Process is a service that is measured from outside.
type Process struct {
	// Address is where it answers: host and port.
	Address string
	cmd     *exec.Cmd
	ended   chan struct{} // closed when it has ended
}

// Start starts a command, which is given a free address as its last argument, and waits until
// it answers there.
func Start(command string, args ...string) (*Process, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	p := &Process{Address: l.Addr().String(), ended: make(chan struct{})}
	l.Close()
	var said bytes.Buffer
	p.cmd = exec.Command(command, append(args, p.Address)...)
	p.cmd.Stderr = &said
	if err := p.cmd.Start(); err != nil {
		return nil, err
	}
	go func() {
		p.cmd.Wait() // how it has ended is its own matter
		close(p.ended)
	}()
	for range 2000 {
		if resp, err := http.Get("http://" + p.Address + "/readyz"); err == nil {
			return p, resp.Body.Close() // a bare handler answers that there is no such page
		}
		select {
		case <-p.ended:
			return nil, fmt.Errorf("%s has ended before it answered: %s", command, bytes.TrimSpace(said.Bytes()))
		case <-time.After(5 * time.Millisecond):
		}
	}
	p.End()
	return nil, fmt.Errorf("%s does not answer at %s", command, p.Address)
}

// Serve starts a service of the program at path on a data file.
func Serve(path, data string, flags ...string) (*Process, error) {
	return Start(path, append(append([]string{"serve", "--data", data}, flags...), "--listen")...)
}

// End ends the process and waits for it.
func (p *Process) End() {
	if p.cmd.Process.Signal(syscall.SIGTERM) != nil {
		p.cmd.Process.Kill() // a system without such signals
	}
	<-p.ended
}

// Kill ends the process without a warning, and waits until it has ended.
func (p *Process) Kill() {
	p.cmd.Process.Kill()
	<-p.ended
}

// CPU is the CPU time that the process has used, from /proc; 0 where there is none.
func (p *Process) CPU() time.Duration {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", p.cmd.Process.Pid))
	if err != nil {
		return 0
	}
	fields := strings.Fields(string(stat[bytes.LastIndexByte(stat, ')')+2:]))
	user, _ := strconv.Atoi(fields[11])
	system, _ := strconv.Atoi(fields[12])
	const tick = 10 * time.Millisecond
	return time.Duration(user+system) * tick
}

// Memory is what the process holds of the machine's memory, in MB; 0 where there is no /proc.
func (p *Process) Memory() float64 {
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", p.cmd.Process.Pid))
	if err != nil {
		return 0
	}
	var kb float64
	_, rest, _ := strings.Cut(string(status), "VmRSS:")
	fmt.Sscan(rest, &kb)
	return kb / 1024
}

// Fsyncs measures what a durable write of 4 KiB takes on the disk of a folder: half of them,
// and all but one in a hundred, take at most as long.
func Fsyncs(dir string) (p50, p99 time.Duration, err error) {
	f, err := os.Create(filepath.Join(dir, "fsync"))
	if err != nil {
		return 0, 0, err
	}
	defer func() { err = errors.Join(err, f.Close(), os.Remove(f.Name())) }()
	block := make([]byte, 4096)
	var all []time.Duration
	for range 500 {
		began := time.Now()
		if _, err := f.Write(block); err != nil {
			return 0, 0, err
		}
		if err := f.Sync(); err != nil {
			return 0, 0, err
		}
		all = append(all, time.Since(began))
	}
	slices.Sort(all)
	return all[len(all)/2], all[len(all)*99/100], nil
}

// At gives the value below which the share q of all lies; 0 for none. It sorts them.
func At(q float64, all []float64) float64 {
	if len(all) == 0 {
		return 0
	}
	slices.Sort(all)
	return all[int(q*float64(len(all)-1))]
}

// Median is the middle one of all, which stay in their order; 0 for none.
func Median(all []float64) float64 {
	if len(all) == 0 {
		return 0
	}
	sorted := slices.Sorted(slices.Values(all))
	return sorted[len(sorted)/2]
}
