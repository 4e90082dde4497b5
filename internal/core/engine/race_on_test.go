//go:build race

package engine

// The race detector makes what is only computed ten times slower.
const racing = true
