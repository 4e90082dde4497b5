//go:build !race

package engine

const modelLength = 10_000
