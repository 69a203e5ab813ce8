package linux

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/vishvananda/netlink"
)

const endTime = 10 * time.Second // for a gateway that is told to end

// Clear takes everything of ours away from this machine: what a killed gateway left, or a running one has, which is ended first. folder is
// where it keeps what settings were before. It gives what was done.
func Clear(device, folder string) (done []string, err error) {
	was, err := remember(folder)
	if err != nil {
		return nil, err
	}
	if pid := was.PID; pid > 1 && ours(pid, was.owner) {
		if err := syscall.Kill(pid, syscall.SIGTERM); err != nil {
			return nil, fmt.Errorf("the gateway runs as process %d: %w", pid, err)
		}
		for end := time.Now().Add(endTime); ours(pid, was.owner); time.Sleep(50 * time.Millisecond) {
			if time.Now().After(end) {
				_ = syscall.Kill(pid, syscall.SIGKILL)
			}
		}
		done = append(done, fmt.Sprintf("ended the gateway, process %d: start it again when all is well", pid))
		if was, err = remember(folder); err != nil {
			return done, err
		}
	}
	for _, step := range []struct {
		what string
		do   func() error
	}{
		{"took our routes away", removeRoutes},
		{"took our table of rules away", removeTable},
		{"set settings back to what they were", was.restore},
		{"took device " + device + " away", func() error { return removeDevice(device) }},
	} {
		if e := step.do(); e != nil {
			err = errors.Join(err, fmt.Errorf("could not do it: %s: %w", step.what, e))
			continue
		}
		done = append(done, step.what)
	}
	return done, err
}

func removeDevice(name string) error {
	l, err := netlink.LinkByName(name)
	if err != nil || l.Type() != "tuntap" {
		return nil // there is none
	}
	return netlink.LinkDel(l)
}

// ours tells whether a process lives, is this program, also one that an upgrade took the place of since it was started (proc(5)), and is of
// the user who said so: nobody has another's ended.
func ours(pid int, user uint32) bool {
	self, err := os.Executable()
	if err != nil {
		return false
	}
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil || !strings.Contains(string(status), fmt.Sprintf("\nUid:\t%d\t", user)) {
		return false
	}
	b, err := os.Readlink(fmt.Sprintf("/proc/%d/exe", pid))
	return err == nil && filepath.Base(strings.TrimSuffix(b, " (deleted)")) == filepath.Base(self)
}
