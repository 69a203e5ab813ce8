package lab

import (
	"errors"
	"io"
	"net"
	"net/netip"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/packet"
	"yellowlantern/internal/guard"
)

// ListenTCP opens a real port for one of the gateway's outside TCP ports: connections to that port on the lab's internet arrive at
// the listener. It is what a gateway in the lab is given to listen with.
func (l *Lab) ListenTCP(port uint16) (net.Listener, error) {
	real, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	ln := &relayed{Listener: real, end: func() {
		l.mu.Lock()
		delete(l.streams, port)
		l.mu.Unlock()
	}}
	for _, a := range l.d.Gateway.Outside.Addresses {
		inner, err := l.relay.ListenTCP(netip.AddrPortFrom(a, port))
		if err != nil {
			_ = ln.Close()
			return nil, err
		}
		ln.inner = append(ln.inner, inner)
		l.wait.Go("lab.ListenTCP", func() { l.relayAll(inner, real.Addr().String()) })
	}
	l.mu.Lock()
	l.streams[port] = true
	l.mu.Unlock()
	return ln, nil
}

// relayed is a real listener with those of the lab's internet that lead to it.
type relayed struct {
	net.Listener
	inner []net.Listener
	end   func()
}

func (r *relayed) Close() error {
	r.end()
	for _, ln := range r.inner {
		_ = ln.Close()
	}
	return r.Listener.Close()
}

func (l *Lab) relayAll(ln net.Listener, to string) {
	for {
		c, err := ln.Accept()
		if err != nil {
			return
		}
		l.wait.Go("lab.relayAll", func() { l.relayOne(c, to) })
	}
}

// relayOne carries one connection, both ways, until either side or the lab ends.
func (l *Lab) relayOne(c net.Conn, to string) {
	defer c.Close()
	real, err := net.Dial("tcp", to)
	if err != nil {
		return
	}
	defer real.Close()
	from, errFrom := netip.ParseAddrPort(c.RemoteAddr().String())
	ours, errOurs := netip.ParseAddrPort(real.LocalAddr().String())
	if errors.Join(errFrom, errOurs) == nil {
		l.mu.Lock()
		l.seen[ours] = from
		l.mu.Unlock()
	}
	done := make(chan struct{}, 2)
	carry := func(dst, src net.Conn) {
		_, _ = io.Copy(dst, src)
		done <- struct{}{}
	}
	guard.Go("lab.relayOne", func() { carry(real, c) })
	guard.Go("lab.relayOne", func() { carry(c, real) })
	select {
	case <-done:
	case <-l.closed:
	}
}

// forStream tells whether a packet belongs to a connection to one of the gateway's TCP ports.
func (l *Lab) forStream(i packet.Info) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return i.Proto == netset.TCP && l.streams[i.DstPort]
}

// fromRelay sends what the gateway's machine sends over TCP.
func (l *Lab) fromRelay(b []byte) {
	if i, err := packet.Parse(b); err == nil && !dropped(l.d.Gateway.Drop, i) {
		l.segments[l.d.Gateway.Outside.Segment].send(i.Dst, b)
	}
}
