package ikev2

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"yellowlantern/internal/core/ike"
	"yellowlantern/internal/guard"
	"yellowlantern/internal/underlay"
)

// carrier brings IKE and ESP to the gateway and back.
type carrier interface {
	carries
	// atOnce is how many datagrams may be sent joined.
	atOnce() int
	Local() netip.AddrPort
	SendIKE(natt bool, b []byte)
	Keepalive()
	// Read hands over what comes until the carrier is closed: datagrams of ESP are valid during the call.
	Read(ike func(b []byte), esp func(batch []datagram))
	Close()
	Name() string
}

// datagrams are the two UDP ports (RFC 7296, RFC 3948).
type datagrams struct {
	conns [2]net.Conn // UDP 500, UDP 4500
	natt  *socket     // the second as one of the machine's; nil: it is one of the site lab's
	alone atomic.Bool // what is sent joined is too large for a link
	wait  guard.Group
	done  chan struct{}
}

func openDatagrams(u underlay.Underlay, plain bool, gateway netip.Addr, ports ...uint16) (*datagrams, error) {
	d := &datagrams{done: make(chan struct{})}
	for i, port := range ports {
		var err error
		if d.conns[i], err = u.DialUDP(netip.AddrPortFrom(gateway, port)); err != nil {
			d.Close()
			return nil, err
		}
	}
	if conn, ok := d.conns[1].(*net.UDPConn); ok {
		d.natt = &socket{conn: conn, peer: true}
		if roomy(conn); !plain {
			d.natt.join()
		}
	}
	return d, nil
}

func (d *datagrams) Name() string          { return "UDP" }
func (d *datagrams) Local() netip.AddrPort { return addrPort(d.conns[0].LocalAddr()) }
func (d *datagrams) Keepalive()            { _, _ = d.conns[1].Write([]byte{0xff}) }

func (d *datagrams) atOnce() int {
	if d.natt == nil {
		return 1
	}
	return d.natt.atOnce(&d.alone)
}

func (d *datagrams) sendRun(whole []byte, each int, _ ike.Peer) {
	if d.natt == nil {
		_, _ = d.conns[1].Write(whole)
		return
	}
	d.natt.sendRun(whole, each, ike.Peer{}, &d.alone)
}

func (d *datagrams) SendIKE(natt bool, b []byte) {
	if !natt {
		_, _ = d.conns[0].Write(b)
		return
	}
	_, _ = d.conns[1].Write(append(make([]byte, markerLen, markerLen+len(b)), b...))
}

func (d *datagrams) Read(ike func(b []byte), esp func(batch []datagram)) {
	d.wait.PacketPath("ikev2.device500", func() { d.again(func() error { return readOne(d.conns[0], ike) }) })
	together := func(batch []datagram) { tellApart(batch, ike, esp) }
	d.again(func() error {
		if d.natt != nil {
			return d.natt.read(together)
		}
		return readOne(d.conns[1], func(b []byte) { together([]datagram{{data: b}}) })
	})
	d.wait.Wait()
}

// tellApart tells IKE by its four zero octets (RFC 3948 §2.2).
func tellApart(batch []datagram, ike func(b []byte), esp func(batch []datagram)) {
	begin := 0
	for i := range batch {
		if b := batch[i].data; len(b) >= markerLen && binary.BigEndian.Uint32(b) == 0 {
			if begin < i {
				esp(batch[begin:i])
			}
			ike(b[markerLen:])
			begin = i + 1
		}
	}
	if begin < len(batch) {
		esp(batch[begin:])
	}
}

// readOne hands over datagrams one by one.
func readOne(c net.Conn, handle func(b []byte)) error {
	buf := make([]byte, 4096)
	for {
		n, err := c.Read(buf)
		if err != nil {
			return err
		}
		handle(buf[:n:n])
	}
}

// again reads until the carrier is closed: a port may be unreachable for a while.
func (d *datagrams) again(read func() error) {
	for {
		if err := read(); errors.Is(err, net.ErrClosed) || errors.Is(err, io.EOF) {
			return
		}
		select {
		case <-d.done:
			return
		case <-time.After(20 * time.Millisecond):
		}
	}
}

func (d *datagrams) Close() {
	close(d.done)
	for _, c := range d.conns {
		if c != nil {
			_ = c.Close()
		}
	}
}

// connection is one TCP connection (RFC 9329): streamPrefix first, then messages with their length in front, which counts itself.
type connection struct {
	conn net.Conn
	mu   sync.Mutex // of writing
}

func openConnection(ctx context.Context, u underlay.Underlay, to netip.AddrPort) (carrier, error) {
	conn, err := u.DialTCP(ctx, to)
	if err != nil {
		return nil, err
	}
	if _, err := conn.Write([]byte(streamPrefix)); err != nil {
		_ = conn.Close()
		return nil, err
	}
	return &connection{conn: conn}, nil
}

func (c *connection) Name() string             { return "TCP" }
func (c *connection) Local() netip.AddrPort    { return addrPort(c.conn.LocalAddr()) }
func (c *connection) SendIKE(_ bool, b []byte) { c.send(make([]byte, markerLen), b) }
func (c *connection) atOnce() int              { return 1 }
func (c *connection) Keepalive()               {} // TCP keeps itself open (RFC 9329 §6.6)
func (c *connection) Close()                   { _ = c.conn.Close() }

func (c *connection) sendRun(whole []byte, _ int, _ ike.Peer) { c.send(whole) }

func (c *connection) send(parts ...[]byte) {
	size := lengthLen
	for _, p := range parts {
		size += len(p)
	}
	b := binary.BigEndian.AppendUint16(make([]byte, 0, size), uint16(size))
	for _, p := range parts {
		b = append(b, p...)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	_ = c.conn.SetWriteDeadline(time.Now().Add(5 * time.Second))
	_, _ = c.conn.Write(b)
}

func (c *connection) Read(ike func(b []byte), esp func(batch []datagram)) {
	r := bufio.NewReaderSize(c.conn, 64<<10)
	buf := make([]byte, 1<<16)
	for {
		if _, err := io.ReadFull(r, buf[:lengthLen]); err != nil {
			return
		}
		n := int(binary.BigEndian.Uint16(buf)) - lengthLen
		if n <= 0 {
			return
		}
		if _, err := io.ReadFull(r, buf[:n]); err != nil {
			return
		}
		tellApart([]datagram{{data: buf[:n:n]}}, ike, esp)
	}
}
