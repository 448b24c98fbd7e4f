//go:build race

package render

// underRace tells that the race detector is built in: its own memory counts as the process's.
const underRace = true
