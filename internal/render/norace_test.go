//go:build !race

package render

const underRace = false
