//go:build race

package engine

// raced says that the race detector runs, which allocates.
const raced = true
