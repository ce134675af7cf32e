//go:build race

package evaluate

// limit does nothing: the race detector's own memory lies all over the address space. The test of the bound builds
// the program without it.
func limit() {}
