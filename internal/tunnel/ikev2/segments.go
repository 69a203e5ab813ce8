package ikev2

import (
	"encoding/binary"
	"errors"
	"net"
	"sync"
	"sync/atomic"

	"golang.org/x/sys/unix"

	"yellowlantern/internal/core/esp"
	"yellowlantern/internal/core/ike"
	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/segment"
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

// carries sends what is sealed: datagrams one behind the other, all of one length but the last, which may be shorter.
type carries interface {
	sendRun(whole []byte, each int, to ike.Peer)
}

// joining is datagrams to one device that are about to be sent.
type joining struct {
	whole []byte
	each  int // octets
	count int
	most  int  // of them at once
	over  bool // the last is shorter: none can follow
	by    carries
	to    ike.Peer
}

var joins = sync.Pool{New: func() any { return &joining{whole: make([]byte, 0, mostJoined)} }}

// place is where a datagram of so many octets stands, behind those before it; they are sent first where it does not go with them. It counts
// once it was added.
func (j *joining) place(n int) []byte {
	if j.count > 0 && (j.over || n > j.each || j.count == j.most || len(j.whole)+n > mostJoined) {
		j.flush()
	}
	at := len(j.whole)
	return j.whole[at : at+n : at+n]
}

// added says that what was placed is a datagram.
func (j *joining) added(n int) {
	if j.count == 0 {
		j.each = n
	}
	j.whole = j.whole[:len(j.whole)+n]
	j.count++
	j.over = n < j.each
}

// flush sends what is there.
func (j *joining) flush() {
	whole, each := j.whole, j.each
	j.whole, j.each, j.count, j.over = j.whole[:0], 0, 0, false
	if len(whole) > 0 {
		j.by.sendRun(whole, each, j.to)
	}
}

// sealAll seals packets back to back by sequence numbers that follow each other, those that are joined cut as they are put in their places,
// and sends them in their order, at most so many at once. What is larger than any datagram is lost.
func sealAll(by carries, to ike.Peer, sealer *esp.Sealer, ps []inside.Packet, most int) (err error) {
	j := joins.Get().(*joining)
	j.by, j.to, j.most = by, to, most
	for _, p := range ps {
		var failed error
		if p.Each > 0 {
			failed = j.sealCut(sealer, p)
		} else {
			failed = j.seal(sealer, sealer.Take(1), p.Len, p.Bytes())
		}
		if failed != nil {
			err = failed
		}
	}
	j.flush()
	j.by = nil
	joins.Put(j)
	return err
}

// sealCut does so with a packet into which several were joined.
func (j *joining) sealCut(sealer *esp.Sealer, p inside.Packet) error {
	shape, err := segment.ShapeOf(p.Bytes(), p.Each)
	if err != nil {
		return err
	}
	first := sealer.Take(shape.Count())
	for i := range shape.Count() {
		n := shape.Len(i)
		size := sealer.Sealed(n)
		if size > mostJoined {
			return esp.ErrTooLarge
		}
		b := j.place(size)
		shape.Put(i, b[sealer.Before():sealer.Before()+n])
		if _, err := sealer.SealAs(first+uint64(i), b, sealer.Before(), n); err != nil {
			return err
		}
		j.added(size)
	}
	return nil
}

func (j *joining) seal(sealer *esp.Sealer, seq uint64, n int, packet []byte) error {
	size := sealer.Sealed(n)
	if size > mostJoined {
		return esp.ErrTooLarge
	}
	b := j.place(size)
	copy(b[sealer.Before():], packet)
	if _, err := sealer.SealAs(seq, b, sealer.Before(), n); err != nil {
		return err
	}
	j.added(size)
	return nil
}

// sendRun sends datagrams that stand one behind the other. Where they cannot be cut on their way out, each is sent by itself: what is too
// large for the link to this device alone, and where the kernel's device cannot do it at all, from now on.
func (s *socket) sendRun(whole []byte, each int, to ike.Peer, alone *atomic.Bool) {
	if len(whole) > each {
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

// atOnce is how many datagrams to a device may be sent joined.
func (s *socket) atOnce(alone *atomic.Bool) int {
	if alone.Load() || !s.segments.Load() {
		return 1
	}
	return mostSegments
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
		oob = space[:len(oob)+putLocal(space[len(oob):], to.Local, s.dual)]
	}
	_, _, err := s.conn.WriteMsgUDPAddrPort(whole, oob, to.Addr)
	return err
}
