//go:build !linux

package system

import "time"

// ThreadTime is how long the calling thread has run on a processor, which other processes do not add to; ok is false where the system does not tell.
func ThreadTime() (d time.Duration, ok bool) { return 0, false }
