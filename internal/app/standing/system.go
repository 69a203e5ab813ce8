package standing

import (
	"time"

	"golang.org/x/sys/unix"
)

// SystemClock is the machine's clock, and whether something sets it (adjtimex(2)).
func SystemClock() (time.Time, bool) {
	var at unix.Timex
	state, err := unix.Adjtimex(&at)
	const unsynchronised = 0x40 // STA_UNSYNC
	return time.Now(), err != nil || state != unix.TIME_ERROR && at.Status&unsynchronised == 0
}
