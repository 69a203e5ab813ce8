package commits

import (
	"os"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"yellowlantern/internal/store"
)

// A trial's deadline is measured by time that went by, not by the clock on the wall, which somebody may set. While the machine stays up
// that is known across restarts of the service; after a reboot only the wall's clock is left.

// upFor is how long the machine is up, and which of its starts that is.
func upFor() (boot string, up time.Duration) {
	b, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	var ts unix.Timespec
	if err != nil || unix.ClockGettime(unix.CLOCK_BOOTTIME, &ts) != nil {
		return "", 0
	}
	return strings.TrimSpace(string(b)), time.Duration(ts.Nano())
}

// deadline sets when a trial is over.
func deadline(t *store.OnTrial, after time.Duration) {
	boot, up := upFor()
	t.Until, t.Boot, t.UpUntil = time.Now().Add(after).UTC(), boot, up+after
}

// left is how long a trial still has.
func left(t store.OnTrial) time.Duration {
	if boot, up := upFor(); boot != "" && boot == t.Boot {
		return t.UpUntil - up
	}
	return time.Until(t.Until)
}

func overdue(t store.OnTrial) bool { return left(t) <= 0 }
