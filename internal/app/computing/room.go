package computing

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/prometheus/procfs"
)

// Room is how much memory can still be taken on this machine, in octets: what the kernel says is available, and no more than is left of
// what the service's unit may take. 0: it cannot be told.
func Room() (room int64) {
	proc, err := procfs.NewDefaultFS()
	if err != nil {
		return 0
	}
	if mem, err := proc.Meminfo(); err == nil && mem.MemAvailableBytes != nil {
		room = int64(*mem.MemAvailableBytes)
	}
	self, err := proc.Self()
	if err != nil {
		return room
	}
	groups, err := self.Cgroups()
	if err != nil {
		return room
	}
	for _, g := range groups {
		if g.HierarchyID == 0 { // version 2
			if left, bounded := leftOf(filepath.Join("/sys/fs/cgroup", g.Path)); bounded {
				room = min(room, left)
			}
		}
	}
	return room
}

// leftOf is what a control group may take yet (Linux, Documentation/admin-guide/cgroup-v2, memory.max); not bounded: as much as there is.
func leftOf(group string) (left int64, bounded bool) {
	number := func(name string) (int64, error) {
		b, err := os.ReadFile(filepath.Join(group, name))
		if err != nil {
			return 0, err
		}
		return strconv.ParseInt(strings.TrimSpace(string(b)), 10, 64)
	}
	most, err := number("memory.max") // "max" is no number
	if err != nil {
		return 0, false
	}
	taken, err := number("memory.current")
	return max(0, most-taken), err == nil
}
