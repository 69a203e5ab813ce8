package ikev2

import (
	"encoding/binary"
	"errors"
	"iter"
	"net/netip"
	"syscall"

	"yellowlantern/internal/core/fold"

	"golang.org/x/sys/unix"
)

// Which of the host's addresses a datagram came to, and is answered from (ip(7) IP_PKTINFO, RFC 3542 §6.1).

// localSpace is room for what the kernel says of a datagram, in octets.
const localSpace = 128

// isSix tells whether a socket is of IPv6, by which IPv4 comes with mapped addresses.
func isSix(raw syscall.RawConn) (six bool, err error) {
	failed := raw.Control(func(fd uintptr) {
		var domain int
		domain, err = unix.GetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_DOMAIN)
		six = domain == unix.AF_INET6
	})
	return six, errors.Join(failed, err)
}

// tellLocal makes the kernel say of every datagram which address it came to.
func tellLocal(raw syscall.RawConn, six bool) (err error) {
	failed := raw.Control(func(fd uintptr) {
		if six {
			err = unix.SetsockoptInt(int(fd), unix.IPPROTO_IPV6, unix.IPV6_RECVPKTINFO, 1)
		} else {
			err = unix.SetsockoptInt(int(fd), unix.IPPROTO_IP, unix.IP_PKTINFO, 1)
		}
	})
	return errors.Join(failed, err)
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
			return fold.Addr(netip.AddrFrom16([16]byte(c.body[:16])))
		}
	}
	return netip.Addr{}
}

// putLocal tells the kernel which address a datagram is to leave from: it writes that to what it is told of it, and gives its length.
func putLocal(to []byte, a netip.Addr, dual bool) int {
	level, kind, size := uint32(unix.IPPROTO_IPV6), uint32(unix.IPV6_PKTINFO), unix.SizeofInet6Pktinfo
	if a.Is4() && !dual {
		level, kind, size = unix.IPPROTO_IP, unix.IP_PKTINFO, unix.SizeofInet4Pktinfo
	}
	clear(to[:unix.CmsgSpace(size)])
	binary.NativeEndian.PutUint64(to, uint64(unix.CmsgLen(size)))
	binary.NativeEndian.PutUint32(to[8:], level)
	binary.NativeEndian.PutUint32(to[12:], kind)
	body := to[unix.SizeofCmsghdr:]
	if size == unix.SizeofInet4Pktinfo {
		four := a.As4()
		copy(body[4:], four[:]) // ipi_spec_dst
	} else {
		six := a.As16()
		copy(body, six[:])
	}
	return unix.CmsgSpace(size)
}
