package system

import (
	"time"

	"golang.org/x/sys/unix"
)

// ThreadTime is how long the calling thread has run on a processor, which other processes do not add to; ok is false where the system does not tell.
func ThreadTime() (d time.Duration, ok bool) {
	var t unix.Timespec
	if err := unix.ClockGettime(unix.CLOCK_THREAD_CPUTIME_ID, &t); err != nil {
		return 0, false
	}
	return time.Duration(t.Nano()), true
}
