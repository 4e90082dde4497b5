//go:build unix

package cli

import (
	"os"
	"syscall"
)

// rereadSignals make a running service read its files again.
var rereadSignals = []os.Signal{syscall.SIGHUP}
