// Relay carries packets between a TUN device and UDP as they are, one by one: what a tunnel costs without being one. relay DEVICE LISTEN
// [REMOTE]; without REMOTE it answers where the last datagram came from.
package main

import (
	"fmt"
	"net"
	"net/netip"
	"os"
	"sync/atomic"

	"yellowlantern/internal/tun"
)

func main() {
	fmt.Fprintln(os.Stderr, run())
	os.Exit(1)
}

// run relays until something fails.
func run() error {
	device, err := tun.Open(os.Args[1], true)
	if err != nil {
		return err
	}
	at, err := net.ResolveUDPAddr("udp", os.Args[2])
	if err != nil {
		return err
	}
	conn, err := net.ListenUDP("udp", at)
	if err != nil {
		return err
	}
	var peer atomic.Pointer[netip.AddrPort]
	if len(os.Args) > 3 {
		to, err := netip.ParseAddrPort(os.Args[3])
		if err != nil {
			return err
		}
		peer.Store(&to)
	}
	go func() {
		b := make([]byte, 1<<16)
		for {
			n, from, err := conn.ReadFromUDPAddrPort(b)
			if err != nil {
				return
			}
			if len(os.Args) == 3 {
				peer.Store(&from)
			}
			device.Write(b[:n])
		}
	}()
	for batch := device.Batch(); ; {
		n, err := device.Read(batch)
		if err != nil {
			return err
		}
		for i := range n {
			if to := peer.Load(); to != nil {
				_, _ = conn.WriteToUDPAddrPort(batch[i].Bytes(), *to)
			}
		}
	}
}
