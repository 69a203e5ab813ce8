package userstack

import (
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/checksum"
	"gvisor.dev/gvisor/pkg/tcpip/header"
)

var here, there = netip.MustParseAddr("10.1.0.1"), netip.MustParseAddr("10.1.0.2")

// segment is a TCP segment from there to here.
func segment(port uint16, seq, ack uint32, flags header.TCPFlags) []byte {
	b := make([]byte, header.IPv4MinimumSize+header.TCPMinimumSize)
	ip, tcp := header.IPv4(b), header.TCP(b[header.IPv4MinimumSize:])
	from, to := tcpip.AddrFrom4(there.As4()), tcpip.AddrFrom4(here.As4())
	ip.Encode(&header.IPv4Fields{
		TotalLength: uint16(len(b)), TTL: 64, Protocol: uint8(header.TCPProtocolNumber), SrcAddr: from, DstAddr: to,
	})
	ip.SetChecksum(^ip.CalculateChecksum())
	tcp.Encode(&header.TCPFields{
		SrcPort: port, DstPort: 443, SeqNum: seq, AckNum: ack, DataOffset: header.TCPMinimumSize, Flags: flags, WindowSize: 65535,
	})
	sum := header.PseudoHeaderChecksum(header.TCPProtocolNumber, from, to, uint16(len(tcp)))
	tcp.SetChecksum(^tcp.CalculateChecksum(checksum.Combine(sum, 0)))
	return b
}

// A connection that its caller resets before it is accepted has no addresses: nobody hears of it, and the next caller is served.
func TestResetBeforeAccepted(t *testing.T) {
	sent := make(chan []byte, 64)
	d, err := New([]netip.Addr{here}, 1280, func(b []byte) { sent <- append([]byte{}, b...) })
	require.NoError(t, err)
	defer d.Close()
	ln, err := d.ListenTCP(netip.AddrPortFrom(here, 443))
	require.NoError(t, err)
	defer ln.Close()
	open := func(port uint16, reset bool) {
		d.Inject(segment(port, 100, 0, header.TCPFlagSyn))
		for { // of those that were reset the stack may say something too
			b := <-sent
			answer := header.TCP(b[header.IPv4MinimumSize:])
			if answer.DestinationPort() != port || answer.Flags()&header.TCPFlagSyn == 0 {
				continue
			}
			d.Inject(segment(port, 101, answer.SequenceNumber()+1, header.TCPFlagAck))
			if reset {
				time.Sleep(20 * time.Millisecond) // it stands in the queue
				d.Inject(segment(port, 101, answer.SequenceNumber()+1, header.TCPFlagRst|header.TCPFlagAck))
			}
			return
		}
	}
	for port := range uint16(3) {
		open(5000+port, true)
	}
	time.Sleep(50 * time.Millisecond)
	open(6000, false)
	accepted := make(chan net.Conn, 1)
	go func() {
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			at, err := netip.ParseAddrPort(c.RemoteAddr().String()) // as the code page and the lab do
			if err != nil || at.Port() == 6000 {
				accepted <- c
				return
			}
		}
	}()
	select {
	case c := <-accepted:
		require.Equal(t, "10.1.0.2:6000", c.RemoteAddr().String())
		d.Inject(segment(6000, 101, 0, header.TCPFlagRst))
		time.Sleep(20 * time.Millisecond)
		require.Equal(t, "10.1.0.2:6000", c.RemoteAddr().String(), "it is known after the reset too")
	case <-time.After(5 * time.Second):
		t.Fatal("nobody was accepted")
	}
}
