package render

import (
	"runtime"
	"runtime/debug"
	"syscall"
	"time"
)

// confine bounds this process for good: memory, processor time, files (none are written), and its turn behind others.
// Source: setrlimit(2)
func confine(b bounds) error {
	debug.SetMemoryLimit(int64(b.Memory / 4 * 3)) // collect before the bound
	cpu := uint64((b.CPU + b.CPU/spent) / time.Second)
	for what, most := range map[int]uint64{syscall.RLIMIT_DATA: uint64(b.Memory), syscall.RLIMIT_CPU: cpu, syscall.RLIMIT_FSIZE: 0, syscall.RLIMIT_CORE: 0} {
		if err := syscall.Setrlimit(what, &syscall.Rlimit{Cur: most, Max: most}); err != nil {
			return err
		}
	}
	return syscall.Setpriority(syscall.PRIO_PROCESS, 0, 10)
}

// fresh tells whether this process may render another: it has used little of its time, and gathered little memory.
func fresh(b bounds) bool {
	var used syscall.Rusage
	var memory runtime.MemStats
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &used); err != nil {
		return false
	}
	runtime.ReadMemStats(&memory)
	return time.Duration(used.Utime.Nano()+used.Stime.Nano()) < b.CPU/spent && memory.Sys < uint64(b.Memory/4)
}
