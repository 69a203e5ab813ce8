package ikev2

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"runtime"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"yellowlantern/internal/core/fold"
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
	ike *socket
	// natt are several sockets on one port, each with a worker of its own: all that comes from one address and port comes to one of them
	// (socket(7) SO_REUSEPORT).
	natt []*socket
}

// socket is one UDP port. Where it is bound to all addresses of the host, what is answered leaves from the address that was dialled.
type socket struct {
	conn *net.UDPConn
	raw  syscall.RawConn
	six  bool // it is of IPv6
	peer bool // it is connected to one
	many bool // it is bound to all addresses
	dual bool // it speaks IPv6, and IPv4 by mapped addresses
	// receiver is with what it is read, once it was.
	receiver *receiver
	// joined is that datagrams of one sender come joined.
	joined bool
	// segments is that the kernel cuts what is sent joined.
	segments atomic.Bool
}

// datagram is what came; the data is valid until the next batch.
type datagram struct {
	from   netip.AddrPort
	local  netip.Addr // which address it came to; not valid where the socket has one only
	tcp    bool       // it came by a connection
	joined bool       // it came in one with that before it
	data   []byte
}

func (d *datagram) peer(natt bool) ike.Peer {
	return ike.Peer{Addr: d.from, NATT: natt, Local: d.local, TCP: d.tcp}
}

// How is how sockets are opened.
type How struct {
	Plain   bool // without what the kernel offers for joined datagrams
	Workers int  // how many work on ESP side by side; 0: as many as there are cores
}

// mostWorkers bounds them: what is kept for each is some 2 MB.
const mostWorkers = 32

func (h How) workers() int {
	if h.Workers == 0 {
		h.Workers = min(runtime.GOMAXPROCS(0), runtime.NumCPU())
	}
	return min(max(h.Workers, 1), mostWorkers)
}

// Listen opens the two ports. Port 0 picks a free one.
func Listen(ikeAddr, nattAddr string, how How) (_ *Sockets, err error) {
	var s Sockets
	if s.ike, err = listen(ikeAddr, false); err == nil {
		s.natt, err = listenAll(nattAddr, how.workers())
	}
	if err != nil {
		s.Close()
		return nil, err
	}
	if !how.Plain { // IKE's own port carries few and large ones
		for _, one := range s.natt {
			one.join()
		}
	}
	return &s, nil
}

// listenAll opens several sockets on one port. That nobody else has it is looked at before: the kernel lets others of the same user join
// those that share.
func listenAll(at string, n int) (out []*socket, err error) {
	alone, err := listen(at, false)
	if err != nil || n == 1 {
		return []*socket{alone}, err
	}
	at = alone.conn.LocalAddr().String()
	_ = alone.conn.Close()
	for range n {
		one, err := listen(at, true)
		if err != nil {
			for _, other := range out {
				_ = other.conn.Close()
			}
			return nil, err
		}
		out = append(out, one)
	}
	return out, nil
}

// join uses what the kernel offers for joined datagrams.
func (s *socket) join() {
	s.joined = joinReceived(s.conn)
	s.segments.Store(cutsSent(s.conn))
}

func listen(at string, shared bool) (*socket, error) {
	var how net.ListenConfig
	if shared {
		how.Control = func(_, _ string, raw syscall.RawConn) (err error) {
			failed := raw.Control(func(fd uintptr) { err = unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_REUSEPORT, 1) })
			return errors.Join(failed, err)
		}
	}
	pc, err := how.ListenPacket(context.Background(), "udp", at)
	if err != nil {
		fix := "give another address, or the right to use it"
		if _, port, e := net.SplitHostPort(at); e == nil && errors.Is(err, unix.EADDRINUSE) {
			fix = "another process has that port: ss -ulpn sport = :" + port + " names it; stop it, or give another address"
		}
		return nil, fmt.Errorf("cannot listen on UDP %s: %w; %s", at, err, fix)
	}
	conn := pc.(*net.UDPConn)
	roomy(conn)
	s := &socket{conn: conn, many: addrOf(conn).Addr().IsUnspecified()}
	if s.raw, err = conn.SyscallConn(); err == nil {
		s.six, err = isSix(s.raw)
	}
	if err == nil && s.many {
		s.dual, err = s.six, tellLocal(s.raw, s.six)
	}
	if err != nil {
		_ = conn.Close()
		return nil, err
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
func (s *Sockets) NATT() netip.AddrPort { return addrOf(s.natt[0].conn) }

func addrOf(c *net.UDPConn) netip.AddrPort {
	a := c.LocalAddr().(*net.UDPAddr).AddrPort()
	return fold.AddrPort(a)
}

// Close closes both ports.
func (s *Sockets) Close() {
	for _, c := range s.conns() {
		_ = c.Close()
	}
}

// conns are all of them.
func (s *Sockets) conns() (out []*net.UDPConn) {
	for _, one := range append([]*socket{s.ike}, s.natt...) {
		if one != nil {
			out = append(out, one.conn)
		}
	}
	return out
}

// wake makes pending reads return.
func (s *Sockets) wake() {
	for _, c := range s.conns() {
		_ = c.SetReadDeadline(time.Now())
	}
}

func (s *Sockets) rearm() {
	for _, c := range s.conns() {
		_ = c.SetReadDeadline(time.Time{})
	}
}

func (s *Sockets) sendIKE(to ike.Peer, data []byte) {
	if !to.NATT {
		s.ike.send(data, to)
		return
	}
	s.natt[0].send(append(make([]byte, markerLen, markerLen+len(data)), data...), to)
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
	var note [localSpace]byte
	_, _, _ = s.conn.WriteMsgUDPAddrPort(data, note[:putLocal(note[:], to.Local, s.dual)], to.Addr)
}

// read hands over batches of datagrams until the socket is closed or woken, or told that nobody listens at the other end. The buffers are
// used again.
func (s *socket) read(handle func(batch []datagram)) (err error) {
	if s.receiver == nil {
		if s.receiver, err = newReceiver(s.conn, s.many || s.joined); err != nil {
			return err
		}
	}
	r := s.receiver
	batch := make([]datagram, 0, batchSize)
	r.rested = func() { clear(batch[:cap(batch)]) }
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
