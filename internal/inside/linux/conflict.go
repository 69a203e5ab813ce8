package linux

import (
	"bytes"
	"net"
	"net/netip"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"yellowlantern/internal/core/packet"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/guard"
)

// How often is asked whether somebody has an address, and how long is waited each time. Who logs in waits for it: RFC 5227 §1.1 and RFC
// 4862
// §5.1 take seconds, for links whose hosts may be asleep.
const (
	probes    = 2
	probeWait = 150 * time.Millisecond
)

var _ gateway.Prober = (*Port)(nil)

// InUse implements gateway.Prober: by ARP probes (RFC 5227 §2.1.1), and by neighbour solicitations as for duplicate address detection
// (RFC 4862 §5.4). What this machine answers for already is its own.
func (p *Port) InUse(addrs []netip.Addr) map[netip.Addr]string {
	p.mu.Lock()
	m, err := look(p.device)
	at := map[netip.Addr]*link{}
	for _, a := range addrs {
		if l := m.linkOf(a); l != nil && !p.answers[a] {
			at[a] = l
		}
	}
	p.mu.Unlock()
	used := map[netip.Addr]string{}
	if err != nil {
		return used
	}
	var mu sync.Mutex
	var all guard.Group
	for a, l := range at {
		all.Go("linux.conflict", func() {
			if who := asked(l, a); who != "" {
				mu.Lock()
				used[a] = who
				mu.Unlock()
			}
		})
	}
	all.Wait()
	return used
}

// asked asks a link for an address, and gives who answers for it; nobody, or without CAP_NET_RAW: empty.
func asked(l *link, a netip.Addr) (who string) {
	dev, err := net.InterfaceByIndex(l.index)
	if err != nil || len(dev.HardwareAddr) != 6 {
		return ""
	}
	kind, question, answers := uint16(unix.ETH_P_ARP), arpRequest(dev.HardwareAddr, netip.IPv4Unspecified(), a), arpFrom
	if a.Is6() {
		kind, question, answers = unix.ETH_P_IPV6, solicitation(dev.HardwareAddr, a), advertisementFrom
	}
	fd, err := unix.Socket(unix.AF_PACKET, unix.SOCK_RAW|unix.SOCK_CLOEXEC, int(swapped(kind)))
	if err != nil {
		return ""
	}
	defer unix.Close(fd)
	on := &unix.SockaddrLinklayer{Protocol: swapped(kind), Ifindex: l.index, Halen: 6}
	if err := unix.Bind(fd, on); err != nil {
		return ""
	}
	b := make([]byte, 2048)
	for range probes {
		if err := unix.Sendto(fd, question, 0, on); err != nil {
			return ""
		}
		for end := time.Now().Add(probeWait); ; {
			left := time.Until(end)
			if left <= 0 {
				break
			}
			wait := unix.NsecToTimeval(left.Nanoseconds() + 1000)
			if err := unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &wait); err != nil {
				return ""
			}
			n, _, err := unix.Recvfrom(fd, b, 0)
			if err != nil {
				continue
			}
			if from := answers(b[:n], a); from != nil && !bytes.Equal(from, dev.HardwareAddr) {
				return from.String()
			}
		}
	}
	return ""
}

// swapped is a number in the order of the network.
func swapped(v uint16) uint16 { return v<<8 | v>>8 }

const etherLen = 14

// arpFrom is who says by ARP that an address is theirs (RFC 826); nil: nobody does.
func arpFrom(b []byte, a netip.Addr) net.HardwareAddr {
	if len(b) < etherLen+28 || !bytes.Equal(b[etherLen+14:etherLen+18], a.AsSlice()) {
		return nil
	}
	return net.HardwareAddr(bytes.Clone(b[etherLen+8 : etherLen+14]))
}

// neighbour discovery's messages (RFC 4861 §4.3, §4.4)
const (
	neighbourSolicitation  = 135
	neighbourAdvertisement = 136
)

// discovery writes one of them about an address in a frame.
func discovery(from net.HardwareAddr, to net.HardwareAddr, kind byte, flags byte, src, dst, target netip.Addr, options ...byte) []byte {
	body := append([]byte{kind, 0, 0, 0, flags, 0, 0, 0}, target.AsSlice()...)
	b := packet.Message(src, dst, append(body, options...))
	b[7] = 255
	frame := append(append([]byte{}, to...), from...)
	return append(append(frame, 0x86, 0xdd), b...)
}

// solicitation asks who has an address, in nobody's name.
func solicitation(from net.HardwareAddr, a netip.Addr) []byte {
	t := a.As16()
	group := netip.AddrFrom16([16]byte{0: 0xff, 1: 0x02, 11: 1, 12: 0xff, 13: t[13], 14: t[14], 15: t[15]}) // RFC 4291 §2.7.1
	to := net.HardwareAddr{0x33, 0x33, 0xff, t[13], t[14], t[15]}
	return discovery(from, to, neighbourSolicitation, 0, netip.IPv6Unspecified(), group, a)
}

// advertisement tells a link that an address is reached at a hardware address from now on.
func advertisement(from net.HardwareAddr, a netip.Addr) []byte {
	const override = 0x20
	option := append([]byte{2, 1}, from...) // target's link-layer address
	everybody := net.HardwareAddr{0x33, 0x33, 0, 0, 0, 1}
	return discovery(from, everybody, neighbourAdvertisement, override, a, netip.IPv6LinkLocalAllNodes(), a, option...)
}

// advertisementFrom is who says by neighbour discovery that an address is theirs, or asks for it to be theirs; nil: nobody does.
func advertisementFrom(b []byte, a netip.Addr) net.HardwareAddr {
	if len(b) < etherLen+40+24 {
		return nil
	}
	ip, t := b[etherLen:], b[etherLen+40:]
	if ip[6] != 58 || ip[7] != 255 || t[0] != neighbourAdvertisement || !bytes.Equal(t[8:24], a.AsSlice()) {
		return nil
	}
	return net.HardwareAddr(bytes.Clone(b[6:12]))
}
