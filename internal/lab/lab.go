package lab

import (
	"errors"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"

	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/packet"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/site"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/guard"
	"yellowlantern/internal/userstack"
)

// The ports that the world knows a gateway by.
const (
	ikePort  = 500
	nattPort = 4500
)

// Lab is the running surroundings. It is the gateway's Inside.
type Lab struct {
	d        *Description
	segments map[string]*segment
	homes    []*home
	hosts    map[string]*machine
	inside   chan []byte // the gateway's inside plug
	closers  []func()
	closed   chan struct{}
	wait     guard.Group
	observed atomic.Pointer[inside.Observed]

	mu      sync.Mutex
	fromLab func(batch []inside.Packet, outside bool)
	ports   [2]netip.AddrPort // the gateway's real sockets
	streams map[uint16]bool   // TCP ports that the gateway's machine listens on
	relay   *userstack.Stack  // ends TCP connections to them, and goes on by real ones
	callers map[caller]*net.UDPConn
	seen    map[netip.AddrPort]netip.AddrPort // callers by our socket's address
}

// caller is a flow from the lab's internet to one of the gateway's real sockets.
type caller struct {
	from netip.AddrPort
	port uint16
}

// Start builds the surroundings.
func Start(d *Description) (*Lab, error) {
	l := &Lab{
		d: d, segments: map[string]*segment{}, hosts: map[string]*machine{}, closed: make(chan struct{}),
		callers: map[caller]*net.UDPConn{}, streams: map[uint16]bool{}, seen: map[netip.AddrPort]netip.AddrPort{},
	}
	for name, prefixes := range d.Segments {
		l.segments[name] = &segment{name: name, prefixes: prefixes, ports: map[netip.Addr]chan []byte{}}
	}
	err := l.build()
	if err != nil {
		l.Close()
		return nil, err
	}
	return l, nil
}

func (l *Lab) build() error {
	internet := l.d.Gateway.Outside.Segment
	for _, r := range l.d.Routers {
		n := &router{own: map[netip.Addr]bool{}, routes: r.Routes}
		queue := l.serve(n)
		for _, a := range r.Addresses {
			s := l.segmentOf(a)
			if s == nil {
				return fmt.Errorf("site description: router %s: no segment holds %s", r.Name, a)
			}
			n.own[a] = true
			n.links = append(n.links, s)
			s.plug(queue, a)
		}
	}
	for _, h := range l.d.Hosts {
		if len(h.Addresses) == 0 {
			return fmt.Errorf("site description: host %s has no address", h.Name)
		}
		s := l.segmentOf(h.Addresses[0])
		if s == nil {
			s = l.segments[internet]
		}
		if err := l.startHost(h, s); err != nil {
			return fmt.Errorf("host %s: %w", h.Name, err)
		}
	}
	l.inside = l.serve(insidePlug{l})
	l.segments[l.d.Gateway.Inside.Segment].plug(l.inside, l.d.Gateway.Inside.Addresses...)
	l.segments[internet].plug(l.serve(outsidePlug{l}), l.d.Gateway.Outside.Addresses...)
	var err error
	if l.relay, err = userstack.New(l.d.Gateway.Outside.Addresses, 1500, l.fromRelay); err != nil {
		return err
	}
	l.closers = append(l.closers, l.relay.Close)
	for _, v := range l.d.Vantages {
		if err := l.startHome(v); err != nil {
			return fmt.Errorf("vantage %s: %w", v.Name, err)
		}
	}
	return nil
}

// segmentOf is the inside segment that holds an address.
func (l *Lab) segmentOf(a netip.Addr) *segment {
	for name, s := range l.segments {
		if name != l.d.Gateway.Outside.Segment && s.holds(a) {
			return s
		}
	}
	return nil
}

// Close ends everything.
func (l *Lab) Close() {
	close(l.closed)
	l.mu.Lock()
	for _, c := range l.callers {
		_ = c.Close()
	}
	l.mu.Unlock()
	for _, c := range l.closers {
		c()
	}
	l.wait.Wait()
}

// Plug connects a gateway: its real sockets, and what takes packets that come to it from inside or from the internet.
func (l *Lab) Plug(ike, natt netip.AddrPort, fromLab func(batch []inside.Packet, outside bool)) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.ports, l.fromLab = [2]netip.AddrPort{ike, natt}, fromLab
}

// VantageLink is where a device plugs itself into a vantage.
type VantageLink struct {
	Name  string         `json:"name"`
	About string         `json:"about"`
	Link  netip.AddrPort `json:"link" doc:"UDP address on loopback that carries the home network's packets."`
}

// Vantages lists the places that a remote user can connect from.
func (l *Lab) Vantages() []VantageLink {
	var out []VantageLink
	for _, h := range l.homes {
		out = append(out, VantageLink{h.v.Name, h.v.About, h.conn.LocalAddr().(*net.UDPAddr).AddrPort()})
	}
	return out
}

// Send takes what the gateway sends to the inside and to the internet.
func (l *Lab) Send(batch []gateway.Frames) {
	for _, f := range batch {
		for _, p := range f.Packets {
			l.sendBy(f.Egress, p.Bytes())
		}
	}
}

func (l *Lab) sendBy(way *site.Egress, b []byte) {
	info, err := packet.Parse(b)
	if err != nil {
		return
	}
	hop := way.NextHop
	if !hop.IsValid() {
		hop = info.Dst
	}
	name := l.d.Gateway.Inside.Segment
	if way.Network == plan.Internet {
		name = l.d.Gateway.Outside.Segment
	} else if !l.segments[name].holds(hop) {
		return // the plan believes in a link that is not there
	}
	l.segments[name].send(hop, b)
}

type insidePlug struct{ *Lab }

func (p insidePlug) receive(b []byte) { p.toGateway(b, false) }

func (l *Lab) toGateway(b []byte, outside bool) {
	l.mu.Lock()
	deliver := l.fromLab
	l.mu.Unlock()
	if deliver != nil {
		deliver([]inside.Packet{inside.Roomy(b)}, outside)
	}
}

type outsidePlug struct{ *Lab }

// receive carries datagrams for the gateway's two ports to its real sockets, one socket of ours for each caller, so
// that it sees callers apart. All else is for its forwarding.
func (p outsidePlug) receive(b []byte) {
	info, err := packet.Parse(b)
	if err != nil || dropped(p.d.Gateway.Drop, info) {
		return
	}
	if p.forStream(info) {
		p.relay.Inject(b)
		return
	}
	if info.Proto != netset.UDP || info.DstPort != ikePort && info.DstPort != nattPort || info.Transport+8 > info.Size {
		p.toGateway(b, true)
		return
	}
	c, err := p.caller(caller{netip.AddrPortFrom(info.Src, info.SrcPort), info.DstPort}, info.Dst)
	if err == nil {
		_, _ = c.Write(b[info.Transport+8 : info.Size])
	}
}

// SeenAt tells the address on the lab's internet of a caller whom the gateway sees at one of our sockets.
func (l *Lab) SeenAt(a netip.AddrPort) netip.AddrPort {
	l.mu.Lock()
	defer l.mu.Unlock()
	if from, ok := l.seen[a]; ok {
		return from
	}
	return a
}

func (l *Lab) caller(k caller, gatewayAddr netip.Addr) (*net.UDPConn, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if c := l.callers[k]; c != nil {
		return c, nil
	}
	to := l.ports[0]
	if k.port == nattPort {
		to = l.ports[1]
	}
	if !to.IsValid() {
		return nil, errors.New("no gateway is plugged in")
	}
	c, err := net.DialUDP("udp", nil, net.UDPAddrFromAddrPort(to))
	if err != nil {
		return nil, err
	}
	l.callers[k] = c
	l.seen[c.LocalAddr().(*net.UDPAddr).AddrPort()] = k.from
	l.wait.Go("lab.caller", func() { l.fromGateway(c, k, gatewayAddr) })
	return c, nil
}

// fromGateway carries what the gateway answers back into the lab's internet.
func (l *Lab) fromGateway(c *net.UDPConn, k caller, from netip.Addr) {
	buf := make([]byte, 4096)
	for {
		n, err := c.Read(buf)
		if err != nil {
			select {
			case <-l.closed:
				return
			default:
			}
			if errors.Is(err, net.ErrClosed) {
				return
			}
			continue // nobody listens on the gateway's port just now
		}
		b := packet.UDP(netip.AddrPortFrom(from, k.port), k.from, buf[:n])
		if info, err := packet.Parse(b); err == nil && !dropped(l.d.Gateway.Drop, info) {
			l.segments[l.d.Gateway.Outside.Segment].send(k.from.Addr(), b)
		}
	}
}
