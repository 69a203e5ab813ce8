package ikev2

import (
	"fmt"
	"net"
	"net/netip"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"yellowlantern/internal/core/ike"
)

const (
	batchSize = 32
	// maxDatagram is the largest datagram that can come. ESP's are small; an IKE message with a chain of certificates may have several
	// thousand octets.
	maxDatagram = 1<<16 - 1
	markerLen   = 4 // zero octets before IKE on UDP 4500 (RFC 3948 §2.2)
)

// Sockets are the gateway's two UDP ports: for IKE (500 in the world), and for IKE and ESP together (4500).
type Sockets struct {
	ike, natt *socket
}

// socket is one UDP port. Where it is bound to all addresses of the host, what is answered leaves from the address that was dialled.
type socket struct {
	conn *net.UDPConn
	peer bool // it is connected to one
	many bool // it is bound to all addresses
	dual bool // it speaks IPv6, and IPv4 by mapped addresses
	// joined is that datagrams of one sender come joined.
	joined bool
	// segments is that the kernel cuts what is sent joined.
	segments atomic.Bool
}

// datagram is what came; the data is valid until the next batch.
type datagram struct {
	from  netip.AddrPort
	local netip.Addr // which address it came to; not valid where the socket has one only
	tcp   bool       // it came by a connection
	data  []byte
}

func (d *datagram) peer(natt bool) ike.Peer {
	return ike.Peer{Addr: d.from, NATT: natt, Local: d.local, TCP: d.tcp}
}

// Listen opens the two ports. Port 0 picks a free one. plain does without what the kernel offers for joined datagrams.
func Listen(ikeAddr, nattAddr string, plain bool) (*Sockets, error) {
	var s Sockets
	for _, x := range []struct {
		addr   string
		socket **socket
	}{{ikeAddr, &s.ike}, {nattAddr, &s.natt}} {
		c, err := listen(x.addr)
		if err != nil {
			s.Close()
			return nil, fmt.Errorf("cannot listen on UDP %s: %w; give another address, or the right to use it", x.addr, err)
		}
		*x.socket = c
	}
	if !plain { // IKE's own port carries few and large ones
		s.natt.join()
	}
	return &s, nil
}

// join uses what the kernel offers for joined datagrams.
func (s *socket) join() {
	s.joined = joinReceived(s.conn)
	s.segments.Store(cutsSent(s.conn))
}

func listen(at string) (*socket, error) {
	addr, err := net.ResolveUDPAddr("udp", at)
	if err != nil {
		return nil, err
	}
	conn, err := net.ListenUDP("udp", addr)
	if err != nil {
		return nil, err
	}
	roomy(conn)
	s := &socket{conn: conn, many: addrOf(conn).Addr().IsUnspecified()}
	if s.many {
		if s.dual, err = tellLocal(conn); err != nil {
			_ = conn.Close()
			return nil, err
		}
	}
	return s, nil
}

// queued is how many octets of datagrams the kernel is asked to keep until they are read: some 15 ms of what a link of 2 Gbit/s carries.
const queued = 4 << 20

// roomy asks the kernel to keep more than it does by itself: where it lets the process, beyond what it lets others (socket(7)).
func roomy(c *net.UDPConn) {
	_ = c.SetReadBuffer(queued)
	if raw, err := c.SyscallConn(); err == nil {
		_ = raw.Control(func(fd uintptr) { _ = unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, queued) })
	}
}

// IKE and NATT are the addresses in use.
func (s *Sockets) IKE() netip.AddrPort { return addrOf(s.ike.conn) }

// NATT is the address for IKE and ESP in UDP.
func (s *Sockets) NATT() netip.AddrPort { return addrOf(s.natt.conn) }

func addrOf(c *net.UDPConn) netip.AddrPort {
	a := c.LocalAddr().(*net.UDPAddr).AddrPort()
	return netip.AddrPortFrom(a.Addr().Unmap(), a.Port())
}

// Close closes both ports.
func (s *Sockets) Close() {
	for _, c := range []*socket{s.ike, s.natt} {
		if c != nil {
			_ = c.conn.Close()
		}
	}
}

// wake makes pending reads return.
func (s *Sockets) wake() {
	_ = s.ike.conn.SetReadDeadline(time.Now())
	_ = s.natt.conn.SetReadDeadline(time.Now())
}

func (s *Sockets) rearm() {
	_ = s.ike.conn.SetReadDeadline(time.Time{})
	_ = s.natt.conn.SetReadDeadline(time.Time{})
}

func (s *Sockets) sendIKE(to ike.Peer, data []byte) {
	if !to.NATT {
		s.ike.send(data, to)
		return
	}
	s.natt.send(append(make([]byte, markerLen, markerLen+len(data)), data...), to)
}

// send sends to where a peer is, from the address that it knows. What cannot be sent is lost, as on any link.
func (s *socket) send(data []byte, to ike.Peer) {
	switch {
	case s.peer:
		_, _ = s.conn.Write(data)
		return
	case !to.Local.IsValid():
		_, _ = s.conn.WriteToUDPAddrPort(data, to.Addr)
		return
	}
	_, _, _ = s.conn.WriteMsgUDPAddrPort(data, fromLocal(to.Local, s.dual), to.Addr)
}

// read hands over batches of datagrams until the socket is closed or woken, or told that nobody listens at the other end. The buffers are
// used again.
func (s *socket) read(handle func(batch []datagram)) error {
	r, err := newReceiver(s.conn, s.many || s.joined)
	if err != nil {
		return err
	}
	batch := make([]datagram, 0, batchSize)
	for {
		n, err := r.next()
		if err != nil {
			return err
		}
		batch = batch[:0]
		for i := range n {
			b, notes := r.data(i)
			d := datagram{from: r.from(i), data: b}
			if s.many {
				d.local = localOf(notes)
			}
			each := 0
			if s.joined {
				each = eachOf(notes)
			}
			batch = apart(batch, d, each)
		}
		handle(batch)
	}
}
