package linux

import (
	"net"
	"net/netip"

	"golang.org/x/sys/unix"
)

// announce tells a link that an address is reached by this machine from now on: whoever had it before has another place in the neighbours'
// memory. IPv4 by a gratuitous ARP request (RFC 5227 §3), IPv6 by an unsolicited neighbour advertisement (RFC 4861 §7.2.6). Without
// CAP_NET_RAW nothing is told.
func announce(l *link, addr netip.Addr) {
	dev, err := net.InterfaceByIndex(l.index)
	if err != nil || len(dev.HardwareAddr) != 6 {
		return
	}
	kind, frame := uint16(unix.ETH_P_ARP), []byte(nil)
	if addr.Is4() {
		frame = arpRequest(dev.HardwareAddr, addr, addr)
	} else {
		kind, frame = unix.ETH_P_IPV6, advertisement(dev.HardwareAddr, addr)
	}
	fd, err := unix.Socket(unix.AF_PACKET, unix.SOCK_RAW|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return
	}
	defer unix.Close(fd)
	_ = unix.Sendto(fd, frame, 0, &unix.SockaddrLinklayer{Protocol: swapped(kind), Ifindex: l.index, Halen: 6})
}

// arpRequest asks the whole link for an address (RFC 826).
func arpRequest(from net.HardwareAddr, sender, asked netip.Addr) []byte {
	b := make([]byte, 0, 42)
	b = append(b, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff)
	b = append(b, from...)
	b = append(b, 0x08, 0x06, 0, 1, 0x08, 0, 6, 4, 0, 1)
	b = append(b, from...)
	b = append(b, sender.AsSlice()...)
	b = append(b, 0, 0, 0, 0, 0, 0)
	return append(b, asked.AsSlice()...)
}
