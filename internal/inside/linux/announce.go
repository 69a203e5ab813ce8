package linux

import (
	"net"
	"net/netip"

	"golang.org/x/sys/unix"
)

// announce tells a link that an address is reached by this machine from now on: whoever had it before has another place in the neighbours'
// memory. IPv4 by a gratuitous ARP request (RFC 5227 §3); for IPv6 neighbours ask again by themselves when what they remember does not
// answer (RFC 4861 §7.3). Without CAP_NET_RAW nothing is told.
func announce(l *link, addr netip.Addr) {
	if !addr.Is4() {
		return
	}
	dev, err := net.InterfaceByIndex(l.index)
	if err != nil || len(dev.HardwareAddr) != 6 {
		return
	}
	fd, err := unix.Socket(unix.AF_PACKET, unix.SOCK_RAW|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return
	}
	defer unix.Close(fd)
	to := &unix.SockaddrLinklayer{Protocol: 0x0608, Ifindex: l.index, Halen: 6}
	_ = unix.Sendto(fd, arpRequest(dev.HardwareAddr, addr, addr), 0, to)
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
