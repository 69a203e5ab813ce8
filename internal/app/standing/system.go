package standing

import (
	"time"

	"golang.org/x/sys/unix"
)

// freeAt is how many octets of a file system are free for us.
func freeAt(folder string) (uint64, error) {
	var at unix.Statfs_t
	if err := unix.Statfs(folder, &at); err != nil {
		return 0, err
	}
	return at.Bavail * uint64(at.Bsize), nil
}

// SystemClock is the machine's clock, and whether something sets it (adjtimex(2)).
func SystemClock() (time.Time, bool) {
	var at unix.Timex
	state, err := unix.Adjtimex(&at)
	const unsynchronised = 0x40 // STA_UNSYNC
	return time.Now(), err != nil || state != unix.TIME_ERROR && at.Status&unsynchronised == 0
}
