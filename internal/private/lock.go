package private

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"
)

// Lock keeps a second process off a data folder, for as long as the file stays open: the kernel lets go of the lock however the
// process ends.
func Lock(folder string) (*os.File, error) {
	path := filepath.Join(folder, "lock")
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("data folder: %w", err)
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		holder := make([]byte, 32)
		n, _ := f.ReadAt(holder, 0)
		_ = f.Close()
		return nil, fmt.Errorf("data folder %s is in use by another process (%s): stop that one, or give this one another folder with --data",
			folder, strings.TrimSpace(string(holder[:n])))
	}
	_ = f.Truncate(0)
	_, _ = fmt.Fprintf(f, "%d\n", os.Getpid()) // for whoever is refused; on a full disk it stays empty
	return f, nil
}
