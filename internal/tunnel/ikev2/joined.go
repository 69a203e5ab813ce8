package ikev2

import (
	"encoding/binary"
	"fmt"
	"net"

	"golang.org/x/sys/unix"
)

// JoinedReceive is what `yl status` calls it that datagrams of one sender are received joined (udp(7) UDP_GRO): one system call for many of
// them, which the sender or the network's device joined. Those with a checksum of 0, as systems' own clients send them, come one by one.
const JoinedReceive = "joined receive"

// joinReceived has the kernel hand over datagrams of one sender joined, and tells whether it does: older kernels do not.
func joinReceived(c *net.UDPConn) bool {
	raw, err := c.SyscallConn()
	if err != nil {
		return false
	}
	var set error
	err = raw.Control(func(fd uintptr) { set = unix.SetsockoptInt(int(fd), unix.IPPROTO_UDP, unix.UDP_GRO, 1) })
	return err == nil && set == nil
}

// eachOf is how long each of the datagrams is that came joined, by what the kernel said, the last of them perhaps shorter; 0: one came.
func eachOf(oob []byte) int {
	for c := range controls(oob) {
		if c.level == unix.IPPROTO_UDP && c.kind == unix.UDP_GRO && len(c.body) >= 4 {
			return max(int(int32(binary.NativeEndian.Uint32(c.body))), 0)
		}
	}
	return 0
}

// apart appends the datagrams that came in one buffer. What is free around one ends where the next begins.
func apart(batch []datagram, d datagram, each int) []datagram {
	if each <= 0 || each >= len(d.data) {
		d.data = d.data[:len(d.data):cap(d.data)]
		return append(batch, d)
	}
	whole := d.data
	for len(whole) > 0 {
		n := min(each, len(whole))
		d.data = whole[:n:n]
		batch = append(batch, d)
		whole, d.joined = whole[n:], true
	}
	return batch
}

// Techniques implements tunnel.Server.
func (s *server) Techniques() (out []string) {
	first := s.Sockets.natt[0]
	if first.joined {
		out = append(out, JoinedReceive)
	}
	if first.segments.Load() {
		out = append(out, JoinedSend)
	}
	if n := len(s.Sockets.natt); n > 1 {
		out = append(out, fmt.Sprintf("%d workers", n))
	}
	return out
}
