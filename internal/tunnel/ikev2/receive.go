package ikev2

import (
	"encoding/binary"
	"net"
	"net/netip"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"

	"yellowlantern/internal/buffers"
	"yellowlantern/internal/core/fold"
)

// receiver takes datagrams from a socket, as many as are there by one call (recvmmsg(2)), and allocates nothing for them. While it waits it
// has no buffers.
type receiver struct {
	raw    syscall.RawConn
	heads  []received
	parts  []unix.Iovec
	shelf  buffers.Shelf           // what parts is of
	names  []unix.RawSockaddrInet6 // of either family
	notes  [][localSpace]byte
	rested func() // told when buffers were given back: nothing of them may be kept
	took   int
	failed error
	call   func(fd uintptr) bool
}

// received is struct mmsghdr.
type received struct {
	unix.Msghdr
	octets uint32
	_      uint32
}

// newReceiver makes one.
func newReceiver(c *net.UDPConn, notes bool) (*receiver, error) {
	raw, err := c.SyscallConn()
	if err != nil {
		return nil, err
	}
	r := &receiver{
		raw: raw, heads: make([]received, batchSize), parts: make([]unix.Iovec, batchSize), names: make([]unix.RawSockaddrInet6, batchSize),
		shelf: buffers.NewShelf(batchSize),
	}
	if notes {
		r.notes = make([][localSpace]byte, batchSize)
	}
	for i := range r.heads {
		r.heads[i].Iov = &r.parts[i]
		r.heads[i].SetIovlen(1)
		r.heads[i].Name = (*byte)(unsafe.Pointer(&r.names[i]))
	}
	r.call = r.receive
	return r, nil
}

// next waits for datagrams, and gives how many came.
func (r *receiver) next() (int, error) {
	for i := range r.heads {
		h := &r.heads[i]
		h.Namelen = unix.SizeofSockaddrInet6
		if r.notes != nil {
			h.Control = &r.notes[i][0]
			h.SetControllen(localSpace)
		}
	}
	if err := r.raw.Read(r.call); err != nil {
		r.rest()
		return 0, err
	}
	return r.took, r.failed
}

// rest gives the buffers back: what was read into them is done with.
func (r *receiver) rest() {
	if r.shelf.Clear() {
		clear(r.parts)
		r.rested()
	}
}

func (r *receiver) receive(fd uintptr) bool {
	if r.shelf.Fill() {
		for i, b := range r.shelf {
			r.parts[i].Base = &b[0]
			r.parts[i].SetLen(maxDatagram)
		}
	}
	for {
		n, _, errno := unix.Syscall6(unix.SYS_RECVMMSG, fd, uintptr(unsafe.Pointer(&r.heads[0])), uintptr(len(r.heads)),
			unix.MSG_DONTWAIT, 0, 0)
		switch errno {
		case 0:
			r.took, r.failed = int(n), nil
			return true
		case unix.EINTR:
		case unix.EAGAIN:
			r.rest()
			return false
		default:
			r.took, r.failed = 0, errno
			return true
		}
	}
}

// data is what came in a datagram, and with what the kernel says of it.
func (r *receiver) data(i int) (b, notes []byte) {
	h := &r.heads[i]
	b = r.shelf[i][:h.octets:maxDatagram]
	if r.notes != nil {
		notes = r.notes[i][:h.Controllen]
	}
	return b, notes
}

// from is where it came from; not valid where the socket is connected.
func (r *receiver) from(i int) netip.AddrPort {
	n := &r.names[i]
	port := binary.BigEndian.Uint16((*[2]byte)(unsafe.Pointer(&n.Port))[:])
	switch n.Family {
	case unix.AF_INET:
		four := (*unix.RawSockaddrInet4)(unsafe.Pointer(n))
		return netip.AddrPortFrom(netip.AddrFrom4(four.Addr), port)
	case unix.AF_INET6:
		return netip.AddrPortFrom(fold.Addr(netip.AddrFrom16(n.Addr)), port)
	}
	return netip.AddrPort{}
}
