//go:build !race

package engine

const racing = false
