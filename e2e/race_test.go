//go:build race

package e2e

// The built program is watched by the race detector where the tests are.
func init() { buildFlags = append(buildFlags, "-race") }
