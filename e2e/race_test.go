//go:build race

package e2e

import "os"

// Programs under the race detector rest a second before they end, unless they are told not to.
func init() {
	buildFlags = append(buildFlags, "-race")
	os.Setenv("GORACE", "atexit_sleep_ms=0 "+os.Getenv("GORACE"))
}
