package ikev2

import (
	"encoding/binary"
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

// localOf reads the address from what the kernel said. It is not valid if that is not there.
func localOf(oob []byte) netip.Addr {
	for len(oob) >= unix.SizeofCmsghdr {
		size := int(binary.NativeEndian.Uint64(oob))
		level, kind := int32(binary.NativeEndian.Uint32(oob[8:])), int32(binary.NativeEndian.Uint32(oob[12:]))
		if size < unix.SizeofCmsghdr || size > len(oob) {
			break
		}
		body := oob[unix.SizeofCmsghdr:size]
		switch {
		case level == unix.IPPROTO_IP && kind == unix.IP_PKTINFO && len(body) >= unix.SizeofInet4Pktinfo:
			return netip.AddrFrom4([4]byte(body[8:12])) // where it went to; before it stands where an answer would leave from
		case level == unix.IPPROTO_IPV6 && kind == unix.IPV6_PKTINFO && len(body) >= unix.SizeofInet6Pktinfo:
			return netip.AddrFrom16([16]byte(body[:16])).Unmap()
		}
		oob = oob[min(len(oob), unix.CmsgSpace(len(body))):]
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
