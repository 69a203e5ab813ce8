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
	"time"

	"yellowlantern/internal/underlay"
)

// carrier brings IKE and ESP to the gateway and back.
type carrier interface {
	Local() netip.AddrPort
	SendIKE(natt bool, b []byte)
	SendESP(b []byte)
	Keepalive()
	// Read hands over what comes until the carrier is closed.
	Read(ike, esp func(b []byte))
	Close()
	Name() string
}

// datagrams are the two UDP ports (RFC 7296, RFC 3948).
type datagrams struct {
	conns [2]net.Conn // UDP 500, UDP 4500
	wait  sync.WaitGroup
	done  chan struct{}
}

func openDatagrams(u underlay.Underlay, gateway netip.Addr, ports ...uint16) (*datagrams, error) {
	d := &datagrams{done: make(chan struct{})}
	for i, port := range ports {
		var err error
		if d.conns[i], err = u.DialUDP(netip.AddrPortFrom(gateway, port)); err != nil {
			d.Close()
			return nil, err
		}
	}
	return d, nil
}

func (d *datagrams) Name() string          { return "UDP" }
func (d *datagrams) Local() netip.AddrPort { return addrPort(d.conns[0].LocalAddr()) }
func (d *datagrams) SendESP(b []byte)      { _, _ = d.conns[1].Write(b) }
func (d *datagrams) Keepalive()            { _, _ = d.conns[1].Write([]byte{0xff}) }

func (d *datagrams) SendIKE(natt bool, b []byte) {
	if !natt {
		_, _ = d.conns[0].Write(b)
		return
	}
	_, _ = d.conns[1].Write(append(make([]byte, markerLen, markerLen+len(b)), b...))
}

func (d *datagrams) Read(ike, esp func(b []byte)) {
	d.wait.Go(func() { d.read(0, ike) })
	d.read(1, func(b []byte) { tellApart(b, ike, esp) })
	d.wait.Wait()
}

// tellApart tells IKE by its four zero octets (RFC 3948 §2.2).
func tellApart(b []byte, ike, esp func(b []byte)) {
	if len(b) >= markerLen && binary.BigEndian.Uint32(b) == 0 {
		ike(b[markerLen:])
	} else {
		esp(b)
	}
}

func (d *datagrams) read(i int, handle func(b []byte)) {
	buf := make([]byte, 4096)
	for {
		n, err := d.conns[i].Read(buf)
		switch {
		case err == nil:
			handle(buf[:n])
			continue
		case errors.Is(err, net.ErrClosed), errors.Is(err, io.EOF):
			return
		}
		select {
		case <-d.done:
			return
		case <-time.After(20 * time.Millisecond): // the port may be unreachable for a while
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
func (c *connection) SendESP(b []byte)         { c.send(b) }
func (c *connection) Keepalive()               {} // TCP keeps itself open (RFC 9329 §6.6)
func (c *connection) Close()                   { _ = c.conn.Close() }

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

func (c *connection) Read(ike, esp func(b []byte)) {
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
		tellApart(buf[:n], ike, esp)
	}
}
