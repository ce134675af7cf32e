package engine

import (
	"fmt"
	"os"
	"strconv"
	"strings"
)

// process tells a process apart from every other: the process namespace it is in (pid_namespaces(7)) under one boot of
// one machine, and when it began, in clock ticks (proc(5), field 22 of stat). The ticks are zero for a process that
// is not there, the namespace is "" where it cannot be told.
func process(pid int) (namespace string, ticks int64) {
	boot, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		return "", 0
	}
	space, err := os.Readlink("/proc/self/ns/pid")
	if err != nil {
		return "", 0
	}
	namespace = strings.TrimSpace(string(boot)) + " " + space
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return namespace, 0
	}
	// The second field is the program's name in brackets, which may hold anything.
	_, rest, _ := strings.Cut(string(stat[strings.LastIndexByte(string(stat), ')'):]), " ")
	if f := strings.Fields(rest); len(f) > 19 {
		ticks, _ = strconv.ParseInt(f[19], 10, 64)
	}
	return namespace, ticks
}
