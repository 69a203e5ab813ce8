package ikev2

import (
	"encoding/binary"
	"errors"
	"net"
	"sync"
	"sync/atomic"

	"golang.org/x/sys/unix"

	"yellowlantern/internal/core/ike"
)

// JoinedSend is what `yl status` calls it that datagrams to one device are sent joined (udp(7) UDP_SEGMENT): one system call for those that
// are alike in length, which the kernel or its device cuts.
const JoinedSend = "joined send"

const (
	mostSegments = 64       // the kernel's own bound
	mostJoined   = 60 << 10 // octets, headers beside them: an IP packet has 65,535
)

// cutsSent tells whether the kernel knows how to cut.
func cutsSent(c *net.UDPConn) bool {
	raw, err := c.SyscallConn()
	if err != nil {
		return false
	}
	var known error
	err = raw.Control(func(fd uintptr) { _, known = unix.GetsockoptInt(int(fd), unix.IPPROTO_UDP, unix.UDP_SEGMENT) })
	return err == nil && known == nil
}

// joining is datagrams to one device that are about to be sent: all of one length but the last, which may be shorter.
type joining struct {
	whole []byte
	each  int // octets
	count int
	over  bool // the last is shorter: none can follow
}

var joins = sync.Pool{New: func() any { return &joining{whole: make([]byte, 0, mostJoined)} }}

// add adds a datagram, and sends those before it first where it does not go with them.
func (j *joining) add(b []byte, s *socket, to ike.Peer, alone *atomic.Bool) {
	if j.count > 0 && (j.over || len(b) > j.each || j.count == mostSegments || len(j.whole)+len(b) > mostJoined) {
		j.flush(s, to, alone)
	}
	if j.count == 0 {
		j.each = len(b)
	}
	j.whole = append(j.whole, b...)
	j.count++
	j.over = len(b) < j.each
}

// flush sends what is there. Where it cannot be cut on its way out, each is sent by itself: what is too large for the link to this device
// alone, and where the kernel's device cannot do it at all, from now on.
func (j *joining) flush(s *socket, to ike.Peer, alone *atomic.Bool) {
	whole, each, count := j.whole, j.each, j.count
	j.whole, j.each, j.count, j.over = j.whole[:0], 0, 0, false
	if count == 0 {
		return
	}
	if count > 1 {
		err := s.sendCut(whole, each, to)
		switch {
		case err == nil:
			return
		case errors.Is(err, unix.EINVAL), errors.Is(err, unix.EMSGSIZE):
			alone.Store(true)
		case errors.Is(err, unix.EIO), errors.Is(err, unix.ENOPROTOOPT), errors.Is(err, unix.EOPNOTSUPP):
			s.segments.Store(false)
		default: // lost, as on any link
			return
		}
	}
	for len(whole) > 0 {
		n := min(each, len(whole))
		s.send(whole[:n], to)
		whole = whole[n:]
	}
}

// sendCut sends datagrams that stand one behind the other.
func (s *socket) sendCut(whole []byte, each int, to ike.Peer) error {
	var space [64 + localSpace]byte
	oob := space[:unix.CmsgSpace(2)]
	binary.NativeEndian.PutUint64(oob, uint64(unix.CmsgLen(2)))
	binary.NativeEndian.PutUint32(oob[8:], unix.IPPROTO_UDP)
	binary.NativeEndian.PutUint32(oob[12:], unix.UDP_SEGMENT)
	binary.NativeEndian.PutUint16(oob[unix.SizeofCmsghdr:], uint16(each))
	if to.Local.IsValid() {
		oob = append(oob, fromLocal(to.Local, s.dual)...)
	}
	_, _, err := s.conn.WriteMsgUDPAddrPort(whole, oob, to.Addr)
	return err
}
