package ikev2

import (
	"bytes"
	"crypto/x509"
	"fmt"
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/algorithm"
	"yellowlantern/internal/core/ike"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/dial"
	"yellowlantern/internal/underlay"
)

// Strangers from one source cannot take the room of all, nor strangers at all that of sessions; who has a session does not count as one.
func TestStreamsAreBounded(t *testing.T) {
	s := streams{conns: map[netip.AddrPort]*stream{}}
	open := func(addr string, port int) bool {
		at := netip.AddrPortFrom(netip.MustParseAddr(addr), uint16(port))
		return s.add(&stream{peer: ike.Peer{Addr: at, TCP: true}, from: at.Addr(), gone: make(chan struct{})})
	}
	for i := range strangeShare {
		require.True(t, open("203.0.113.9", 1000+i))
		require.True(t, open(fmt.Sprintf("2001:db8::%x", i+1), 1))
	}
	require.False(t, open("203.0.113.9", 5000))
	require.False(t, open("2001:db8::7777", 1), "another address of the same /64")
	require.True(t, open("2001:db8:0:1::1", 1))
	require.True(t, open("203.0.113.45", 5000), "somebody else")
	s.alive(ike.Peer{Addr: netip.MustParseAddrPort("203.0.113.9:1000"), TCP: true})
	require.True(t, open("203.0.113.9", 5001), "one of them has a session now")
	for i := 0; s.strangers.All() < maxStrangers; i++ {
		require.True(t, open(netip.AddrFrom4([4]byte{198, 51, byte(i >> 8), byte(i)}).String(), 1))
	}
	require.False(t, open("192.0.2.77", 1))
	for at, c := range s.conns {
		if at.Addr() == c.from && c.from.Is4() && !c.live.Load() {
			s.remove(c)
		}
	}
	require.Equal(t, strangeShare+1, s.strangers.All())
	s.over = true
	require.False(t, open("192.0.2.77", 1), "the gateway ends")
}

// Whatever comes by TCP, messages are cut as their lengths say, and one that does not fit ends the connection.
func FuzzFraming(f *testing.F) {
	f.Add([]byte{0, 4, 1, 2, 0, 3, 9})
	f.Add([]byte{0, 1, 0, 0, 255, 255})
	f.Fuzz(func(t *testing.T, b []byte) {
		r, at := bytes.NewReader(b), 0
		var into [mostMessage]byte
		for {
			n, err := readMessage(r, into[:])
			if err != nil {
				return
			}
			require.Equal(t, int(b[at])<<8|int(b[at+1]), n+lengthLen)
			require.Equal(t, b[at+lengthLen:at+lengthLen+n], into[:n])
			at += lengthLen + n
		}
	})
}

// A login that is judged slowly is not begun a second time over TCP: UDP is not silent, and a limit of one session would refuse the second.
func TestSlowLoginStaysOnUDP(t *testing.T) {
	b := startBusy(t)
	dialled := must(net.Listen("tcp", "127.0.0.1:0"))
	defer dialled.Close()
	roots := x509.NewCertPool()
	roots.AddCert(authority.Leaf)
	b.people.slow.Lock()
	time.AfterFunc(udpPatience+time.Second, b.people.slow.Unlock)
	s, err := Dialer{}.Dial(t.Context(), underlay.Host(), dial.Login{
		Dial: "127.0.0.1", Identity: b.set.Plan.Gateways[0].Dial, User: "user00000", Password: password, Roots: roots,
		Algorithms: algorithm.OfLevel(algorithm.Strict), Ports: map[string]uint16{PortIKE: b.socks.IKE().Port(), PortNATT: b.socks.NATT().Port()},
		TCPPort: dialled.Addr().(*net.TCPAddr).AddrPort().Port(),
	}, func([][]byte) {})
	require.NoError(t, err)
	defer s.Close()
	require.Equal(t, session.OverUDP, s.Given().Over)
	require.Len(t, b.g.Sessions(), 1)
}
