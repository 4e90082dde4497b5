//go:build unix

package cli

import (
	"os"
	"syscall"
)

// hangUp makes a running service read its files again, and ends what runs for a terminal.
var hangUp = []os.Signal{syscall.SIGHUP}
