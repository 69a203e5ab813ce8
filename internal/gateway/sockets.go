package gateway

import (
	"fmt"
	"net"
	"net/netip"
	"time"

	"golang.org/x/net/ipv4"

	"yellowlantern/internal/core/ike"
)

const (
	batchSize  = 32
	bufferSize = 2048
	markerLen  = 4 // zero octets before IKE on UDP 4500 (RFC 3948 §2.2)
)

// Sockets are the gateway's two UDP ports: for IKE (500 in the world), and for IKE and ESP together (4500).
type Sockets struct {
	ike, natt *net.UDPConn
}

// Listen opens the two ports. Port 0 picks a free one.
func Listen(ikeAddr, nattAddr string) (*Sockets, error) {
	var s Sockets
	for _, x := range []struct {
		addr string
		conn **net.UDPConn
	}{{ikeAddr, &s.ike}, {nattAddr, &s.natt}} {
		addr, err := net.ResolveUDPAddr("udp", x.addr)
		if err == nil {
			*x.conn, err = net.ListenUDP("udp", addr)
		}
		if err != nil {
			s.Close()
			return nil, fmt.Errorf("cannot listen on UDP %s: %w; give another address, or the right to use it", x.addr, err)
		}
		_ = (*x.conn).SetReadBuffer(4 << 20) // a hint: the kernel may give less
	}
	return &s, nil
}

// IKE and NATT are the addresses in use.
func (s *Sockets) IKE() netip.AddrPort { return addrOf(s.ike) }

// NATT is the address for IKE and ESP in UDP.
func (s *Sockets) NATT() netip.AddrPort { return addrOf(s.natt) }

func addrOf(c *net.UDPConn) netip.AddrPort {
	a := c.LocalAddr().(*net.UDPAddr).AddrPort()
	return netip.AddrPortFrom(a.Addr().Unmap(), a.Port())
}

// Close closes both ports.
func (s *Sockets) Close() {
	for _, c := range []*net.UDPConn{s.ike, s.natt} {
		if c != nil {
			_ = c.Close()
		}
	}
}

// wake makes pending reads return.
func (s *Sockets) wake() {
	_ = s.ike.SetReadDeadline(time.Now())
	_ = s.natt.SetReadDeadline(time.Now())
}

func (s *Sockets) rearm() {
	_ = s.ike.SetReadDeadline(time.Time{})
	_ = s.natt.SetReadDeadline(time.Time{})
}

func (s *Sockets) sendIKE(to ike.Peer, data []byte) {
	if !to.NATT {
		_, _ = s.ike.WriteToUDPAddrPort(data, to.Addr)
		return
	}
	_, _ = s.natt.WriteToUDPAddrPort(append(make([]byte, markerLen, markerLen+len(data)), data...), to.Addr)
}

// read hands over batches of datagrams until the socket is closed or woken. The buffers are used again.
func read(c *net.UDPConn, handle func(batch []ipv4.Message)) {
	pc := ipv4.NewPacketConn(c)
	ms := make([]ipv4.Message, batchSize)
	for i := range ms {
		ms[i].Buffers = [][]byte{make([]byte, bufferSize)}
	}
	for {
		n, err := pc.ReadBatch(ms, 0)
		if err != nil {
			return
		}
		handle(ms[:n])
	}
}

func sender(m ipv4.Message) netip.AddrPort {
	a := m.Addr.(*net.UDPAddr).AddrPort()
	return netip.AddrPortFrom(a.Addr().Unmap(), a.Port())
}
