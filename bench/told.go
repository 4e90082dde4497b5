package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"runtime"
	"strings"
	"time"

	"humblemule.example/internal/measure"
)

// told is what the scenario that is measured has said.
var told strings.Builder

// say writes what was measured.
func say(format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	fmt.Print(text)
	told.WriteString(text)
}

func sayLine(text ...any) { say("%s", fmt.Sprintln(text...)) }

// run measures a scenario in a folder of its own. It begins with what a durable write costs
// on the disk at that time, since nothing that is durable can cost less.
func (s *scenario) run(ctx context.Context) error {
	told.Reset()
	return inFolder(func(dir string) error {
		p50, p99, err := measure.Fsyncs(dir)
		if err != nil {
			return err
		}
		say("%s\nfsync of 4 KiB: p50 %s, p99 %s; %d cores; %d rounds of %s each, medians\n\n", s.what, p50.Round(time.Microsecond), p99.Round(time.Microsecond), runtime.NumCPU(), *rounds, *span)
		if err := s.measure(ctx, dir); err != nil || *document == "" {
			return err
		}
		return s.keep(*document)
	})
}

// keep puts what was said in the place of what the scenario has said before, between the marks
// that a document has for it.
func (s *scenario) keep(path string) error {
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	mark, end := []byte("<!-- measured: "+s.name+" -->\n"), []byte("<!-- end -->")
	before, rest, found := bytes.Cut(text, mark)
	if !found {
		return fmt.Errorf("%s has no place for %s, which would be %s", path, s.name, mark)
	}
	_, after, found := bytes.Cut(rest, end)
	if !found {
		return errors.New("the place of " + s.name + " does not end")
	}
	block := "```text\n" + strings.TrimSpace(told.String()) + "\n```\n"
	return os.WriteFile(path, bytes.Join([][]byte{before, mark, []byte(block), end, after}, nil), 0o644)
}
