package ikev2

import (
	"bufio"
	"net"
	"os"
	"strconv"
	"strings"
	"syscall"
)

// overflown is how many datagrams the kernel has lost because these sockets were not read in time (proc_net_udp(5), the column drops).
func overflown(conns ...*net.UDPConn) (lost uint64) {
	inodes := map[string]bool{}
	for _, c := range conns {
		raw, err := c.SyscallConn()
		if err != nil {
			continue
		}
		_ = raw.Control(func(fd uintptr) {
			var s syscall.Stat_t
			if syscall.Fstat(int(fd), &s) == nil {
				inodes[strconv.FormatUint(s.Ino, 10)] = true
			}
		})
	}
	for _, table := range []string{"/proc/thread-self/net/udp", "/proc/thread-self/net/udp6"} {
		f, err := os.Open(table)
		if err != nil {
			continue
		}
		for lines := bufio.NewScanner(f); lines.Scan(); {
			words := strings.Fields(lines.Text())
			if len(words) > 12 && inodes[words[9]] {
				n, _ := strconv.ParseUint(words[12], 10, 64)
				lost += n
			}
		}
		_ = f.Close()
	}
	return lost
}
