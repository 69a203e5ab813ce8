package ikev2

import (
	"encoding/binary"
	"iter"
	"net"
	"net/netip"

	"golang.org/x/sys/unix"
)

// Which of the host's addresses a datagram came to, and is answered from (ip(7) IP_PKTINFO, RFC 3542 §6.1).

// localSpace is room for what the kernel says of a datagram, in octets.
const localSpace = 128

// tellLocal makes the kernel say of every datagram which address it came to. dual tells whether the socket speaks IPv6.
func tellLocal(c *net.UDPConn) (dual bool, err error) {
	raw, err := c.SyscallConn()
	if err != nil {
		return false, err
	}
	var set error
	err = raw.Control(func(fd uintptr) {
		var domain int
		if domain, set = unix.GetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_DOMAIN); set != nil {
			return
		}
		if dual = domain == unix.AF_INET6; !dual {
			set = unix.SetsockoptInt(int(fd), unix.IPPROTO_IP, unix.IP_PKTINFO, 1)
			return
		}
		set = unix.SetsockoptInt(int(fd), unix.IPPROTO_IPV6, unix.IPV6_RECVPKTINFO, 1)
	})
	if err != nil {
		return dual, err
	}
	return dual, set
}

// control is something that the kernel says of a datagram (cmsg(3)).
type control struct {
	level, kind int32
	body        []byte
}

// controls are what it said, as far as that can be read.
func controls(oob []byte) iter.Seq[control] {
	return func(yield func(control) bool) {
		for len(oob) >= unix.SizeofCmsghdr {
			size := int(binary.NativeEndian.Uint64(oob))
			if size < unix.SizeofCmsghdr || size > len(oob) {
				return
			}
			c := control{
				int32(binary.NativeEndian.Uint32(oob[8:])), int32(binary.NativeEndian.Uint32(oob[12:])),
				oob[unix.SizeofCmsghdr:size],
			}
			if !yield(c) {
				return
			}
			oob = oob[min(len(oob), unix.CmsgSpace(len(c.body))):]
		}
	}
}

// localOf reads the address from what the kernel said. It is not valid if that is not there.
func localOf(oob []byte) netip.Addr {
	for c := range controls(oob) {
		switch {
		case c.level == unix.IPPROTO_IP && c.kind == unix.IP_PKTINFO && len(c.body) >= unix.SizeofInet4Pktinfo:
			return netip.AddrFrom4([4]byte(c.body[8:12])) // where it went to; before it stands where an answer would leave from
		case c.level == unix.IPPROTO_IPV6 && c.kind == unix.IPV6_PKTINFO && len(c.body) >= unix.SizeofInet6Pktinfo:
			return netip.AddrFrom16([16]byte(c.body[:16])).Unmap()
		}
	}
	return netip.Addr{}
}

// fromLocal tells the kernel which address a datagram is to leave from.
func fromLocal(a netip.Addr, dual bool) []byte {
	if a.Is4() && !dual {
		info := unix.Inet4Pktinfo{Spec_dst: a.As4()}
		return unix.PktInfo4(&info)
	}
	info := unix.Inet6Pktinfo{Addr: a.As16()}
	return unix.PktInfo6(&info)
}
