// Package doors bounds how many connections a listener has open, in all and from one source, so that nobody takes the room of others before
// it is known who they are.
package doors

import (
	"net"
	"net/netip"
	"sync"

	"yellowlantern/internal/core/crowd"
)

// Bounded gives a listener of which most connections are open at a time, and each of one source (an IPv4 address, or a /64 of IPv6; 0: as
// many as there are). Whoever has too many has the newest closed. A connection without a remote address is closed too.
func Bounded(ln net.Listener, most, each int) net.Listener {
	return &bounded{Listener: ln, most: most, each: each}
}

type bounded struct {
	net.Listener
	most, each int

	mu   sync.Mutex
	open crowd.Count
}

// Accept implements net.Listener.
func (b *bounded) Accept() (net.Conn, error) {
	for {
		c, err := b.Listener.Accept()
		if err != nil {
			return nil, err
		}
		if from, ok := b.take(c); ok {
			return &counted{Conn: c, over: sync.OnceFunc(func() { b.give(from) })}, nil
		}
		_ = c.Close()
	}
}

func (b *bounded) take(c net.Conn) (from netip.Addr, ok bool) {
	remote := c.RemoteAddr()
	if remote == nil {
		return from, false
	}
	at, err := netip.ParseAddrPort(remote.String())
	b.mu.Lock()
	defer b.mu.Unlock()
	from = at.Addr()
	if err != nil || b.open.All() >= b.most || b.each > 0 && b.open.Of(from) >= b.each {
		return from, false
	}
	b.open.Add(from)
	return from, true
}

func (b *bounded) give(from netip.Addr) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.open.Remove(from)
}

type counted struct {
	net.Conn
	over func()
}

// Close implements net.Conn.
func (c *counted) Close() error {
	c.over()
	return c.Conn.Close()
}

// CloseWrite ends what is sent, where the connection can; TLS and HTTP use it.
func (c *counted) CloseWrite() error {
	if half, ok := c.Conn.(interface{ CloseWrite() error }); ok {
		return half.CloseWrite()
	}
	return nil
}
