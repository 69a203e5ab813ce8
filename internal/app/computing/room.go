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
				room = min(room, max(1, left))
			}
		}
	}
	return room
}

// leftOf is what a control group may take yet (Linux, Documentation/admin-guide/cgroup-v2, memory.max); not bounded: as much as there is.
// What it has taken to keep files at hand is given back when it is needed.
func leftOf(group string) (left int64, bounded bool) {
	most, err := number(filepath.Join(group, "memory.max")) // "max" is no number
	if err != nil {
		return 0, false
	}
	taken, err := number(filepath.Join(group, "memory.current"))
	if err != nil {
		return 0, false
	}
	stat, _ := os.ReadFile(filepath.Join(group, "memory.stat"))
	for line := range strings.Lines(string(stat)) {
		if name, value, _ := strings.Cut(strings.TrimSpace(line), " "); name == "inactive_file" || name == "active_file" {
			n, _ := strconv.ParseInt(value, 10, 64)
			taken -= n
		}
	}
	return max(0, most-max(0, taken)), true
}

func number(path string) (int64, error) {
	b, err := os.ReadFile(path)
	if err != nil {
		return 0, err
	}
	return strconv.ParseInt(strings.TrimSpace(string(b)), 10, 64)
}
