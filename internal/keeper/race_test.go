//go:build race

package keeper

// raced tells that the race detector is at work.
const raced = true
