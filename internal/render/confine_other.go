//go:build !linux

package render

import "runtime/debug"

// confine bounds this process as far as Go can; its time is bounded by the process that started it.
func confine(b bounds) error {
	debug.SetMemoryLimit(int64(b.Memory / 4 * 3))
	return nil
}

// fresh tells whether this process may render another.
func fresh(bounds) bool { return false }
