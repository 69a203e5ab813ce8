package ikev2

import (
	"encoding/binary"
	"sync"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"

	"yellowlantern/internal/core/esp"
	"yellowlantern/internal/core/ike"
	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/session"
)

// mostGathered is how many datagrams to different devices are sent by one system call. Those who wait to send to one of these devices wait
// as long as it takes to seal so many.
const mostGathered = 16

// gathered is datagrams to different devices that are about to be sent together. The order of each device's link is held until they are:
// none of them may be overtaken. Whoever holds some never waits for another.
type gathered struct {
	held []*link
	by   *socket // all leave by it
	outgoing
}

var gatherings = sync.Pool{New: func() any { return newGathered() }}

func newGathered() *gathered {
	g := &gathered{}
	g.outgoing.prepare(mostGathered)
	return g
}

// Gather implements session.Gatherer.
func (l *link) Gather(p inside.Packet, with session.Gathered) session.Gathered {
	g, _ := with.(*gathered)
	peer, sealer := l.sending()
	apart := sealer == nil || peer.TCP || !p.Has(esp.Headroom, esp.Tailroom)
	if with != nil && (apart || g == nil) { // or it was gathered by another kind
		with.Flush()
	}
	if apart {
		l.Send(p)
		return nil
	}
	if g == nil {
		g = gatherings.Get().(*gathered)
	}
	by := l.socket()
	if g.by != by || len(g.held) == mostGathered {
		g.send()
		g.by = by
	}
	if !l.order.TryLock() { // somebody sends to it, or it was gathered for already
		g.send()
		l.order.Lock()
	}
	out, err := sealer.Seal(p.Buf, p.Off, p.Len)
	if err != nil {
		l.order.Unlock()
		l.unsealed(err)
		return g
	}
	g.add(by, out, peer)
	g.held = append(g.held, l)
	return g
}

// Flush implements session.Gathered: it is sent, and belongs to nobody any more.
func (g *gathered) Flush() {
	g.send()
	g.by = nil
	gatherings.Put(g)
}

// send sends what is there.
func (g *gathered) send() {
	if len(g.held) == 0 {
		return
	}
	g.outgoing.send(g.by)
	for _, l := range g.held {
		l.order.Unlock()
	}
	clear(g.held)
	g.held = g.held[:0]
}

// outgoing sends datagrams to different places by one system call (sendmmsg(2)), and allocates nothing for it.
type outgoing struct {
	heads []received // struct mmsghdr
	parts []unix.Iovec
	names []unix.RawSockaddrInet6 // of either family
	notes [][localSpace]byte
	count int
	sent  int
	call  func(fd uintptr) bool
}

func (s *outgoing) prepare(most int) {
	s.heads, s.parts = make([]received, most), make([]unix.Iovec, most)
	s.names, s.notes = make([]unix.RawSockaddrInet6, most), make([][localSpace]byte, most)
	s.call = s.push
}

// add puts a datagram to the others; the data is not altered until it was sent.
func (s *outgoing) add(by *socket, data []byte, to ike.Peer) {
	i := s.count
	s.count++
	s.parts[i].Base = &data[0]
	s.parts[i].SetLen(len(data))
	h := &s.heads[i]
	h.Iov = &s.parts[i]
	h.SetIovlen(1)
	h.Name = (*byte)(unsafe.Pointer(&s.names[i]))
	h.Namelen = address(&s.names[i], to, by.six)
	h.Control = nil
	h.SetControllen(0)
	if to.Local.IsValid() {
		n := putLocal(s.notes[i][:], to.Local, by.dual)
		h.Control = &s.notes[i][0]
		h.SetControllen(n)
	}
}

// address writes where a peer is, as a socket of either family knows it, and gives its length.
func address(name *unix.RawSockaddrInet6, to ike.Peer, six bool) uint32 {
	port := (*[2]byte)(unsafe.Pointer(&name.Port))
	binary.BigEndian.PutUint16(port[:], to.Addr.Port())
	if six {
		name.Family, name.Flowinfo, name.Scope_id = unix.AF_INET6, 0, 0
		name.Addr = to.Addr.Addr().As16()
		return unix.SizeofSockaddrInet6
	}
	four := (*unix.RawSockaddrInet4)(unsafe.Pointer(name))
	four.Family = unix.AF_INET
	four.Addr = to.Addr.Addr().As4()
	return unix.SizeofSockaddrInet4
}

// send sends all of them. What cannot be sent is lost, as on any link.
func (s *outgoing) send(by *socket) {
	s.sent = 0
	_ = by.raw.Write(s.call)
	for i := range s.count {
		s.parts[i].Base, s.heads[i].Control = nil, nil
	}
	s.count = 0
}

func (s *outgoing) push(fd uintptr) bool {
	for s.sent < s.count {
		n, _, errno := unix.Syscall6(unix.SYS_SENDMMSG, fd, uintptr(unsafe.Pointer(&s.heads[s.sent])), uintptr(s.count-s.sent),
			unix.MSG_DONTWAIT, 0, 0)
		switch errno {
		case 0:
			s.sent += int(n)
		case syscall.EINTR:
		case syscall.EAGAIN:
			return false
		default: // of the first of them
			s.sent++
		}
	}
	return true
}

var (
	_ session.Gatherer = (*link)(nil)
	_ session.Gathered = (*gathered)(nil)
)
