//go:build race

package engine

// The race detector makes the model test ten times slower.
const modelLength = 2000
