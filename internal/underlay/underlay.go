// Package underlay is the network that a device is on before it connects: this machine's own, or a vantage of the site lab.
package underlay

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"time"

	"github.com/miekg/dns"

	"yellowlantern/internal/core/fold"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/guard"
	"yellowlantern/internal/userstack"
)

// Underlay is the network that the device is on before it connects.
type Underlay interface {
	Name() string
	Address(dst netip.Addr) netip.Addr // the device's own, towards a destination
	// OnLink is the device's own network that holds a destination; not valid if none does.
	OnLink(dst netip.Addr) netip.Prefix
	DialTCP(ctx context.Context, to netip.AddrPort) (net.Conn, error)
	DialUDP(to netip.AddrPort) (net.Conn, error)
	// Ping gives an error of ErrCannotPing where it cannot be tried.
	Ping(ctx context.Context, dst netip.Addr) (time.Duration, error)
	Resolve(ctx context.Context, name string) ([]netip.Addr, error)
	Said(dst netip.Addr, port uint16) userstack.Said
	Close()
}

// ErrCannotPing says that this underlay has no way to ping.
var ErrCannotPing = errors.New("ping needs privileges here")

// host is the operating system's own network.
type host struct{}

// Host is the network that this machine is on.
func Host() Underlay { return host{} }

func (host) Name() string                           { return "this machine's network" }
func (host) Close()                                 {}
func (host) Said(netip.Addr, uint16) userstack.Said { return userstack.Said{} }
func (host) Address(d netip.Addr) netip.Addr        { return localFor(d) }

func (host) OnLink(dst netip.Addr) netip.Prefix {
	addrs, err := net.InterfaceAddrs()
	if err != nil {
		return netip.Prefix{}
	}
	for _, a := range addrs {
		if p, err := netip.ParsePrefix(a.String()); err == nil && !p.Addr().IsLoopback() && p.Contains(dst) {
			return p.Masked()
		}
	}
	return netip.Prefix{}
}

func localFor(dst netip.Addr) netip.Addr {
	c, err := net.DialUDP("udp", nil, net.UDPAddrFromAddrPort(netip.AddrPortFrom(dst, 9)))
	if err != nil {
		return netip.Addr{}
	}
	defer c.Close()
	return fold.Addr(c.LocalAddr().(*net.UDPAddr).AddrPort().Addr())
}

func (host) DialTCP(ctx context.Context, to netip.AddrPort) (net.Conn, error) {
	return (&net.Dialer{}).DialContext(ctx, "tcp", to.String())
}

func (host) DialUDP(to netip.AddrPort) (net.Conn, error) {
	return net.DialUDP("udp", nil, net.UDPAddrFromAddrPort(to))
}

func (host) Ping(context.Context, netip.Addr) (time.Duration, error) { return 0, ErrCannotPing }

func (host) Resolve(ctx context.Context, name string) ([]netip.Addr, error) {
	found, err := net.DefaultResolver.LookupNetIP(ctx, "ip", name)
	return fold.Addrs(found), err // /etc/hosts gives IPv4 addresses mapped into IPv6
}

// vantage is a home network of the site lab, reached by its link.
type vantage struct {
	name  string
	home  netip.Prefix
	link  *net.UDPConn
	stack *userstack.Stack
	dns   []netip.Addr
}

// Vantage plugs a device into a vantage's link: one datagram, one packet; a datagram that begins with zero is a word
// with the home router.
func Vantage(ctx context.Context, link netip.AddrPort) (Underlay, error) {
	conn, err := net.DialUDP("udp", nil, net.UDPAddrFromAddrPort(link))
	if err != nil {
		return nil, err
	}
	var welcome struct {
		Vantage string       `json:"vantage"`
		Address netip.Addr   `json:"address"`
		Prefix  netip.Prefix `json:"prefix"`
		DNS     []netip.Addr `json:"dns"`
	}
	buf := make([]byte, 4096)
	for try := 0; ; try++ {
		if try == 5 {
			conn.Close()
			return nil, fmt.Errorf("the vantage at %s does not answer: is the site lab running?", link)
		}
		_, _ = conn.Write([]byte{0})
		_ = conn.SetReadDeadline(time.Now().Add(400 * time.Millisecond))
		if n, err := conn.Read(buf); err == nil && n > 1 && buf[0] == 0 && json.Unmarshal(buf[1:n], &welcome) == nil {
			break
		}
	}
	_ = conn.SetReadDeadline(time.Time{})
	v := &vantage{name: welcome.Vantage, home: welcome.Prefix, link: conn, dns: welcome.DNS}
	if v.stack, err = userstack.New([]netip.Addr{welcome.Address}, 1500, v.send); err != nil {
		conn.Close()
		return nil, err
	}
	guard.Go("underlay.Vantage", func() {
		buf := make([]byte, 4096)
		for {
			n, err := conn.Read(buf)
			if errors.Is(err, net.ErrClosed) {
				return
			}
			if err == nil && n > 1 && buf[0] != 0 {
				v.stack.Inject(buf[:n])
			}
		}
	})
	return v, nil
}

func (v *vantage) send(b []byte)                     { _, _ = v.link.Write(b) }
func (v *vantage) Name() string                      { return v.name }
func (v *vantage) Address(dst netip.Addr) netip.Addr { return v.stack.Source(dst) }
func (v *vantage) OnLink(dst netip.Addr) netip.Prefix {
	if v.home.Contains(dst) {
		return v.home
	}
	return netip.Prefix{}
}
func (v *vantage) Said(d netip.Addr, port uint16) userstack.Said { return v.stack.Said(d, port) }

func (v *vantage) Close() {
	v.stack.Close()
	_ = v.link.Close()
}

func (v *vantage) DialTCP(ctx context.Context, to netip.AddrPort) (net.Conn, error) {
	return v.stack.DialTCP(ctx, to)
}
func (v *vantage) DialUDP(to netip.AddrPort) (net.Conn, error) { return v.stack.DialUDP(to) }

func (v *vantage) Ping(ctx context.Context, dst netip.Addr) (time.Duration, error) {
	return v.stack.Ping(ctx, dst, v.send)
}

func (v *vantage) Resolve(ctx context.Context, name string) ([]netip.Addr, error) {
	return Resolve(ctx, v.stack.DialUDP, v.dns, name)
}

// Resolve asks name servers for both kinds of address, IPv4 first, the next server if one does not answer.
func Resolve(ctx context.Context, dial func(netip.AddrPort) (net.Conn, error), servers []netip.Addr, name string) ([]netip.Addr, error) {
	if len(servers) == 0 {
		return nil, errors.New("no name server was given")
	}
	var last error
	for _, s := range servers {
		var out []netip.Addr
		for _, kind := range []uint16{dns.TypeA, dns.TypeAAAA} {
			var r *dns.Msg
			if r, last = Ask(ctx, dial, s, name, kind); last != nil {
				break
			}
			if r.Rcode == dns.RcodeNameError {
				return nil, reason.Of(reason.NameUnknown, reason.With{reason.Name: name, reason.Address: s.String()})
			}
			for _, rr := range r.Answer {
				switch rr := rr.(type) {
				case *dns.A:
					if a, ok := netip.AddrFromSlice(rr.A.To4()); ok {
						out = append(out, a)
					}
				case *dns.AAAA:
					if a, ok := netip.AddrFromSlice(rr.AAAA.To16()); ok {
						out = append(out, a)
					}
				}
			}
		}
		if last == nil {
			if len(out) == 0 {
				return nil, reason.Of(reason.NameUnknown, reason.With{reason.Name: name, reason.Address: s.String()})
			}
			return out, nil
		}
	}
	return nil, last
}

// Ask asks a name server one question, a few times if need be.
func Ask(ctx context.Context, dial func(netip.AddrPort) (net.Conn, error), server netip.Addr, name string, kind uint16) (*dns.Msg, error) {
	q := new(dns.Msg).SetQuestion(dns.Fqdn(name), kind)
	packed, err := q.Pack()
	if err != nil {
		return nil, fmt.Errorf("%q is no name: %w", name, err)
	}
	buf := make([]byte, 4096)
	for range 3 {
		c, err := dial(netip.AddrPortFrom(server, 53))
		if err != nil {
			return nil, err
		}
		_, _ = c.Write(packed)
		_ = c.SetReadDeadline(time.Now().Add(700 * time.Millisecond))
		n, err := c.Read(buf)
		_ = c.Close()
		if r := new(dns.Msg); err == nil && r.Unpack(buf[:n]) == nil && r.Id == q.Id {
			return r, nil
		}
		if ctx.Err() != nil {
			break
		}
	}
	return nil, reason.Of(reason.NameServerSilent, reason.With{reason.Name: name, reason.Address: server.String()})
}
