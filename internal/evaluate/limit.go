//go:build !race

package evaluate

import (
	"bytes"
	"os"
	"runtime/debug"
	"strconv"
	"syscall"
)

// limit bounds the address space of this process to what it has now and Memory.
func limit() {
	debug.SetGCPercent(50)
	debug.SetMemoryLimit(Memory / 2)
	pages := uint64(0)
	if statm, err := os.ReadFile("/proc/self/statm"); err == nil {
		pages, _ = strconv.ParseUint(string(bytes.Fields(statm)[0]), 10, 64)
	}
	most := pages*uint64(os.Getpagesize()) + Memory
	if pages == 0 || syscall.Setrlimit(syscall.RLIMIT_AS, &syscall.Rlimit{Cur: most, Max: most}) != nil {
		os.Exit(3) // without a bound it does nothing
	}
}
