//go:build !race

package engine

const raced = false
