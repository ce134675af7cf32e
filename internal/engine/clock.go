package engine

import "time"

// maxSkew is how far a machine's clock may be off before that is told.
const maxSkew = time.Second

// began is when this process began; no step of any clock moves what is counted from it.
var began = time.Now()

// elapsed is for how long this process has run, by its monotonic clock, in nanoseconds.
func elapsed() int64 { return int64(time.Since(began)) }
