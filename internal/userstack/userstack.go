// Package userstack is one device's TCP/IP in user space: packets go in and out as octets, connections are made and
// accepted as with the operating system's, and no privileges are needed. The site lab's hosts and the probe are made
// of it. The protocols themselves are gVisor's.
package userstack

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"syscall"
	"time"

	"gvisor.dev/gvisor/pkg/buffer"
	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/adapters/gonet"
	"gvisor.dev/gvisor/pkg/tcpip/header"
	"gvisor.dev/gvisor/pkg/tcpip/link/channel"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv4"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv6"
	"gvisor.dev/gvisor/pkg/tcpip/stack"
	"gvisor.dev/gvisor/pkg/tcpip/transport/icmp"
	"gvisor.dev/gvisor/pkg/tcpip/transport/tcp"
	"gvisor.dev/gvisor/pkg/tcpip/transport/udp"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/packet"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/guard"
)

const (
	nic       = 1
	queueSize = 512
)

// Stack is one device's TCP/IP.
type Stack struct {
	Addresses []netip.Addr
	s         *stack.Stack
	link      *channel.Endpoint
	stop      context.CancelFunc

	mu      sync.Mutex
	pings   map[uint16]chan struct{}
	lastID  uint16
	trouble map[trouble]Said // what routers said about packets of ours
}

type trouble struct {
	dst  netip.Addr
	port uint16
}

// New makes a device with the given addresses; what it sends is handed to out, which must not keep the slice.
func New(addrs []netip.Addr, mtu int, out func([]byte)) (*Stack, error) {
	s := stack.New(stack.Options{
		NetworkProtocols:   []stack.NetworkProtocolFactory{ipv4.NewProtocol, ipv6.NewProtocol},
		TransportProtocols: []stack.TransportProtocolFactory{tcp.NewProtocol, udp.NewProtocol, icmp.NewProtocol4, icmp.NewProtocol6},
	})
	link := channel.New(queueSize, uint32(mtu), "")
	if err := s.CreateNIC(nic, link); err != nil {
		return nil, fmt.Errorf("user-space stack: %s", err)
	}
	for _, a := range addrs {
		proto, bits := ipv6.ProtocolNumber, 128
		if a.Is4() {
			proto, bits = ipv4.ProtocolNumber, 32
		}
		pa := tcpip.ProtocolAddress{Protocol: proto, AddressWithPrefix: tcpip.AddressWithPrefix{Address: address(a), PrefixLen: bits}}
		if err := s.AddProtocolAddress(nic, pa, stack.AddressProperties{}); err != nil {
			return nil, fmt.Errorf("user-space stack: address %s: %s", a, err)
		}
	}
	s.SetRouteTable([]tcpip.Route{{Destination: header.IPv4EmptySubnet, NIC: nic}, {Destination: header.IPv6EmptySubnet, NIC: nic}})
	sack := tcpip.TCPSACKEnabled(true)
	s.SetTransportProtocolOption(tcp.ProtocolNumber, &sack)
	ctx, stop := context.WithCancel(context.Background())
	d := &Stack{Addresses: addrs, s: s, link: link, stop: stop, pings: map[uint16]chan struct{}{}, trouble: map[trouble]Said{}}
	guard.PacketPath("userstack.out", func() {
		for {
			p := link.ReadContext(ctx)
			if p == nil {
				return
			}
			v := p.ToView()
			out(v.AsSlice())
			v.Release()
			p.DecRef()
		}
	})
	return d, nil
}

// Close ends the device with all its connections.
func (d *Stack) Close() {
	d.stop()
	d.s.Close()
}

// Inject hands the device a packet that arrived for it. The octets are copied.
func (d *Stack) Inject(b []byte) {
	info, err := packet.Parse(b)
	if err != nil {
		return
	}
	d.watch(b, info)
	proto := ipv6.ProtocolNumber
	if info.Src.Is4() {
		proto = ipv4.ProtocolNumber
	}
	p := stack.NewPacketBuffer(stack.PacketBufferOptions{Payload: buffer.MakeWithData(append([]byte(nil), b[:info.Size]...))})
	d.link.InjectInbound(proto, p)
	p.DecRef()
}

// watch notes answers to pings of ours and what routers say.
func (d *Stack) watch(b []byte, i packet.Info) {
	d.mu.Lock()
	defer d.mu.Unlock()
	switch {
	case i.Proto == netset.ICMP && i.Kind == 0, i.Proto == netset.ICMPv6 && i.Kind == 129:
		if c := d.pings[i.Ident]; c != nil {
			delete(d.pings, i.Ident)
			close(c)
		}
	case i.ICMPError() && !i.Fragment:
		if in, _, err := packet.Quoted(b, i); err == nil {
			d.trouble[trouble{in.Dst, in.DstPort}] = said(i)
		}
	}
}

// Said is what a router said about a packet; the zero value: nothing.
type Said struct {
	reason.Reason
	By netip.Addr
}

func said(i packet.Info) Said {
	for _, w := range []struct {
		proto, kind, code uint8
		said              reason.Code
	}{
		{1, 3, 0, reason.SaidNoRoute},
		{1, 3, 1, reason.SaidHostSilent},
		{1, 3, 3, reason.SaidPortClosed},
		{1, 3, 4, reason.SaidTooLarge},
		{1, 3, 13, reason.SaidProhibited},
		{1, 11, 0, reason.SaidHopLimit},
		{58, 1, 0, reason.SaidNoRoute},
		{58, 1, 1, reason.SaidProhibited},
		{58, 1, 3, reason.SaidHostSilent},
		{58, 1, 4, reason.SaidPortClosed},
		{58, 2, 0, reason.SaidTooLarge},
		{58, 3, 0, reason.SaidHopLimit},
	} {
		if w.proto == i.Proto && w.kind == i.Kind && w.code == i.Code {
			return Said{reason.Of(w.said, nil), i.Src}
		}
	}
	return Said{reason.Of(reason.SaidSomethingElse, reason.With{reason.What: fmt.Sprintf("type %d code %d", i.Kind, i.Code)}), i.Src}
}

// Said gives what a router last said about packets to the destination. Port is 0 for ping.
func (d *Stack) Said(dst netip.Addr, port uint16) Said {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.trouble[trouble{dst, port}]
}

func address(a netip.Addr) tcpip.Address { return tcpip.AddrFromSlice(a.AsSlice()) }

func full(ap netip.AddrPort) (tcpip.FullAddress, tcpip.NetworkProtocolNumber) {
	proto := ipv6.ProtocolNumber
	if ap.Addr().Is4() {
		proto = ipv4.ProtocolNumber
	}
	fa := tcpip.FullAddress{NIC: nic, Port: ap.Port()}
	if ap.Addr().IsValid() && !ap.Addr().IsUnspecified() {
		fa.Addr = address(ap.Addr())
	}
	return fa, proto
}

// DialTCP connects. A connection that the other side refused is syscall.ECONNREFUSED, as the system says it.
func (d *Stack) DialTCP(ctx context.Context, to netip.AddrPort) (net.Conn, error) {
	fa, proto := full(to)
	c, err := gonet.DialContextTCP(ctx, d.s, fa, proto)
	var failed *net.OpError
	if errors.As(err, &failed) && failed.Err.Error() == (&tcpip.ErrConnectionRefused{}).String() { // it keeps no more of it
		failed.Err = syscall.ECONNREFUSED
	}
	if err != nil {
		return nil, err
	}
	n, ok := name(c)
	if !ok {
		_ = c.Close()
		return nil, syscall.ECONNRESET
	}
	return n, nil
}

// DialUDP gives a connected UDP socket.
func (d *Stack) DialUDP(to netip.AddrPort) (net.Conn, error) {
	fa, proto := full(to)
	return gonet.DialUDP(d.s, nil, &fa, proto)
}

// ListenUDP gives a UDP socket bound to one of the device's addresses and a port.
func (d *Stack) ListenUDP(on netip.AddrPort) (net.PacketConn, error) {
	fa, proto := full(on)
	return gonet.DialUDP(d.s, &fa, nil, proto)
}

// ListenTCP accepts connections on one of the device's addresses and a port.
func (d *Stack) ListenTCP(on netip.AddrPort) (net.Listener, error) {
	fa, proto := full(on)
	ln, err := gonet.ListenTCP(d.s, fa, proto)
	if err != nil {
		return nil, err
	}
	return listener{ln}, nil
}

// listener hands out connections whose two addresses are known, and stay so.
type listener struct{ net.Listener }

// Accept implements net.Listener. A connection that was reset before it is accepted has no addresses any more: it is closed, and nobody
// hears of it.
func (l listener) Accept() (net.Conn, error) {
	for {
		c, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		if named, ok := name(c); ok {
			return named, nil
		}
		_ = c.Close()
	}
}

// name keeps a connection's addresses: the stack forgets them when the connection is reset, and everybody else takes them for granted.
func name(c net.Conn) (net.Conn, bool) {
	local, remote := c.LocalAddr(), c.RemoteAddr()
	return named{c, local, remote}, local != nil && remote != nil
}

type named struct {
	net.Conn
	local, remote net.Addr
}

// LocalAddr implements net.Conn.
func (n named) LocalAddr() net.Addr { return n.local }

// RemoteAddr implements net.Conn.
func (n named) RemoteAddr() net.Addr { return n.remote }

// Source is the device's first address of the destination's family; not valid if it has none.
func (d *Stack) Source(dst netip.Addr) netip.Addr {
	for _, a := range d.Addresses {
		if a.Is4() == dst.Is4() {
			return a
		}
	}
	return netip.Addr{}
}

// Ping sends echo requests by way of send until one is answered or the context ends. It gives the time of the answer.
func (d *Stack) Ping(ctx context.Context, dst netip.Addr, send func([]byte)) (time.Duration, error) {
	return d.PingSized(ctx, dst, 0, send)
}

// PingSized does the same with packets of a size in octets, headers included; less than 64: as small as they are.
func (d *Stack) PingSized(ctx context.Context, dst netip.Addr, size int, send func([]byte)) (time.Duration, error) {
	src := d.Source(dst)
	if !src.IsValid() {
		return 0, fmt.Errorf("no address of the family of %s", dst)
	}
	answered := make(chan struct{})
	d.mu.Lock()
	d.lastID++
	id := d.lastID
	d.pings[id] = answered
	d.mu.Unlock()
	defer func() {
		d.mu.Lock()
		delete(d.pings, id)
		d.mu.Unlock()
	}()
	words := []byte("yellow lantern probe")
	head := 8 + 20 // ICMP and IPv4
	if dst.Is6() {
		head = 8 + 40
	}
	if more := size - head - len(words); more > 0 {
		words = append(words, make([]byte, more)...)
	}
	begun := time.Now()
	for seq := uint16(1); ; seq++ {
		data := binary.BigEndian.AppendUint16(binary.BigEndian.AppendUint16(nil, id), seq)
		send(packet.EchoRequest(src, dst, append(data, words...)))
		select {
		case <-answered:
			return time.Since(begun), nil
		case <-ctx.Done():
			return 0, ctx.Err()
		case <-time.After(300 * time.Millisecond):
		}
	}
}
