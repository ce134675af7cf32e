package engine

import (
	"fmt"
	"os"
	"strconv"
	"strings"
)

// process tells a process apart from every other: the boot of its machine, and when in it the process began,
// in clock ticks (proc(5), field 22 of stat). Zero for a process that is not there.
func process(pid int) (boot string, ticks int64) {
	b, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		return "", 0
	}
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return strings.TrimSpace(string(b)), 0
	}
	// The second field is the program's name in brackets, which may hold anything.
	_, rest, _ := strings.Cut(string(stat[strings.LastIndexByte(string(stat), ')'):]), " ")
	if f := strings.Fields(rest); len(f) > 19 {
		ticks, _ = strconv.ParseInt(f[19], 10, 64)
	}
	return strings.TrimSpace(string(b)), ticks
}
