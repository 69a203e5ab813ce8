package lab

import (
	"encoding/json"
	"net"
	"net/netip"
	"sync"
	"time"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/packet"
)

// Welcome is what a device is told when it plugs itself into a vantage's link: what a home router tells by DHCP.
type Welcome struct {
	Vantage string       `json:"vantage"`
	Address netip.Addr   `json:"address"`
	Prefix  netip.Prefix `json:"prefix"` // of the home network
	DNS     []netip.Addr `json:"dns"`
}

// Hello is the datagram by which a device plugs itself in: one zero octet, which no IP packet begins with.
var Hello = []byte{0}

// home is a vantage: a link for devices, over UDP on loopback (one datagram, one IP packet), and a router that translates.
type home struct {
	v        Vantage
	internet *segment
	conn     *net.UDPConn
	queue    chan []byte

	mu      sync.Mutex
	devices map[netip.Addr]netip.AddrPort // by home address
	homes   map[netip.AddrPort]netip.Addr // by where the device's datagrams come from
	next    netip.Addr
	used    map[uint16]time.Time // chosen ports, when last used
	out     map[translation]uint16
	back    map[translation]netip.AddrPort
	port    uint16
	sent    int // packets of devices
}

// translation names one mapping: on the way out by the device's address and port, on the way back by the router's port.
type translation struct {
	proto  uint8
	inside netip.AddrPort
}

func (l *Lab) startHome(v Vantage) error {
	conn, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(netip.MustParseAddrPort("127.0.0.1:0")))
	if err != nil {
		return err
	}
	h := &home{
		v: v, internet: l.segments[l.d.Gateway.Outside.Segment], conn: conn, devices: map[netip.Addr]netip.AddrPort{},
		homes: map[netip.AddrPort]netip.Addr{}, used: map[uint16]time.Time{}, out: map[translation]uint16{}, back: map[translation]netip.AddrPort{}, port: 40000,
	}
	h.next = h.firstLease()
	h.queue = l.serve(h)
	if v.Translate {
		h.internet.plug(h.queue, v.Outside)
	}
	l.homes = append(l.homes, h)
	l.closers = append(l.closers, func() { _ = conn.Close() })
	l.wait.Go("lab.startHome", h.devicesLoop)
	return nil
}

// firstLease leaves the lower addresses to the router and fixed devices.
func (h *home) firstLease() netip.Addr {
	a := h.v.Prefix.Masked().Addr()
	for range 20 {
		a = a.Next()
	}
	return a
}

// devicesLoop takes what devices send.
func (h *home) devicesLoop() {
	buf := make([]byte, 4096)
	for {
		n, from, err := h.conn.ReadFromUDPAddrPort(buf)
		if err != nil {
			return
		}
		if n == 1 && buf[0] == 0 {
			h.welcome(from)
			continue
		}
		h.fromDevice(append([]byte(nil), buf[:n]...), from)
	}
}

func (h *home) welcome(from netip.AddrPort) {
	h.mu.Lock()
	addr, known := h.homes[from]
	if !known {
		if !h.v.Prefix.Contains(h.next.Next()) {
			h.next = h.firstLease()
		}
		addr, h.next = h.next, h.next.Next()
		delete(h.homes, h.devices[addr]) // the longest gone makes room
		h.homes[from], h.devices[addr] = addr, from
		if !h.v.Translate { // the internet knows the way to the device itself
			h.internet.plug(h.queue, addr)
		}
	}
	h.mu.Unlock()
	b, err := json.Marshal(Welcome{h.v.Name, addr, h.v.Prefix, h.v.DNS})
	if err == nil {
		_, _ = h.conn.WriteToUDPAddrPort(append([]byte{0}, b...), from)
	}
}

func (h *home) fromDevice(b []byte, from netip.AddrPort) {
	info, err := packet.Parse(b)
	if err != nil || info.Fragment || info.HopLimit <= 1 || dropped(h.v.Drop, info) || h.tooLarge(b) {
		return
	}
	h.mu.Lock()
	own := h.homes[from]
	neighbour, here := h.devices[info.Dst]
	h.sent++
	lost := h.v.Loses > 0 && h.sent%h.v.Loses == 0
	h.mu.Unlock()
	switch {
	case own != info.Src || lost:
		return
	case here:
		_, _ = h.conn.WriteToUDPAddrPort(b, neighbour)
		return
	case h.v.Prefix.Contains(info.Dst):
		return // nobody has that address at home: traffic that stays there is lost there
	}
	packet.DecrementHopLimit(b)
	if h.v.Translate {
		packet.SetSrc(b, &info, h.v.Outside, h.translate(info))
	}
	h.internet.send(info.Dst, b)
}

// translate gives the port (or identifier) on the router's public address, a new one for each of the device's.
func (h *home) translate(i packet.Info) uint16 {
	port := i.SrcPort
	if i.Proto == netset.ICMP {
		port = i.Ident
	}
	k := translation{i.Proto, netip.AddrPortFrom(i.Src, port)}
	h.mu.Lock()
	defer h.mu.Unlock()
	chosen, known := h.out[k]
	if !known || h.forgotten(chosen) {
		h.port++
		chosen = h.port
		h.out[k] = chosen
		h.back[translation{i.Proto, netip.AddrPortFrom(h.v.Outside, chosen)}] = k.inside
	}
	h.used[chosen] = time.Now()
	return chosen
}

// forgotten tells whether the router has forgotten a port, for nothing used it. h.mu is held.
func (h *home) forgotten(port uint16) bool {
	return h.v.Forgets > 0 && time.Since(h.used[port]) > time.Duration(h.v.Forgets)
}

func (h *home) tooLarge(b []byte) bool { return h.v.MTU > 0 && len(b) > h.v.MTU }

// Forget makes the home router of a vantage lose its translations, as one does that restarts: what devices send next goes
// out by other ports, and what comes for the old ones is lost.
func (l *Lab) Forget(vantage string) {
	for _, h := range l.homes {
		if h.v.Name == vantage {
			h.mu.Lock()
			clear(h.out)
			clear(h.back)
			h.mu.Unlock()
		}
	}
}

// receive takes what comes back from the internet.
func (h *home) receive(b []byte) {
	info, err := packet.Parse(b)
	if err != nil || info.HopLimit <= 1 || dropped(h.v.Drop, info) || h.tooLarge(b) {
		return
	}
	if !h.v.Translate {
		h.mu.Lock()
		to, here := h.devices[info.Dst]
		h.mu.Unlock()
		if packet.DecrementHopLimit(b); here {
			_, _ = h.conn.WriteToUDPAddrPort(b, to)
		}
		return
	}
	port := info.DstPort
	if info.Proto == netset.ICMP {
		port = info.Ident
	}
	h.mu.Lock()
	inside, known := h.back[translation{info.Proto, netip.AddrPortFrom(h.v.Outside, port)}]
	known = known && !h.forgotten(port)
	if known {
		h.used[port] = time.Now()
	}
	to := h.devices[inside.Addr()]
	h.mu.Unlock()
	if !known {
		return
	}
	packet.DecrementHopLimit(b)
	packet.SetDst(b, &info, inside.Addr(), inside.Port())
	_, _ = h.conn.WriteToUDPAddrPort(b, to)
}

// dropped tells whether a list of services such as udp/4500 names the packet, as what it is sent to or as what answers.
func dropped(list []string, i packet.Info) bool {
	for _, word := range list {
		set, err := netset.ParseServices(word)
		if err == nil && (set.Contains(i.Service()) || set.Contains(netset.PortPoint(i.Proto, i.SrcPort))) {
			return true
		}
	}
	return false
}
