package lab

import (
	"net"
	"net/netip"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/packet"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/site"
	"yellowlantern/internal/gateway"
)

func island(t *testing.T) *Description {
	text, err := os.ReadFile("../../demo/site.yaml")
	require.NoError(t, err)
	d, err := Read(text)
	require.NoError(t, err)
	return d
}

// A description that cannot be built is told, and what was built of it is taken down again.
func TestDescriptions(t *testing.T) {
	_, err := Read([]byte("segmnets: {}\n"))
	require.ErrorContains(t, err, "segmnets")
	_, err = Read([]byte("segments: {a: [10.0.0.0/8]}\ngateway: {inside: {segment: b}, outside: {segment: a}}\n"))
	require.ErrorContains(t, err, `"b", which does not exist`)
	for says, spoil := range map[string]func(*Description){
		"no segment holds 172.16.0.1": func(d *Description) {
			d.Routers = append(d.Routers, Router{Name: "x", Addresses: []netip.Addr{netip.MustParseAddr("172.16.0.1")}})
		},
		"host x has no address": func(d *Description) { d.Hosts = append(d.Hosts, Host{Name: "x"}) },
	} {
		d := island(t)
		spoil(d)
		_, err := Start(d)
		require.ErrorContains(t, err, says)
	}
}

// plugged is a lab with something in the gateway's place that writes down what comes to it.
func plugged(t *testing.T) (*Lab, chan []byte) {
	l, err := Start(island(t))
	require.NoError(t, err)
	t.Cleanup(l.Close)
	got := make(chan []byte, 100)
	l.Plug(netip.AddrPort{}, netip.AddrPort{}, func(batch []inside.Packet, _ bool) {
		for _, p := range batch {
			got <- append([]byte(nil), p.Bytes()...)
		}
	})
	return l, got
}

func next(t *testing.T, got chan []byte) packet.Info {
	select {
	case b := <-got:
		i, err := packet.Parse(b)
		require.NoError(t, err)
		return i
	case <-time.After(2 * time.Second):
		t.Fatal("nothing came to the gateway")
	}
	return packet.Info{}
}

func ping(src, dst string) []byte {
	return packet.EchoRequest(netip.MustParseAddr(src), netip.MustParseAddr(dst), []byte{0, 1, 0, 1})
}

// leaving is a packet that a gateway sends.
func leaving(by site.Egress, b []byte) []gateway.Frames {
	return []gateway.Frames{{Egress: &by, Packets: []inside.Packet{inside.Bare(b)}}}
}

// What the gateway sends finds its host, behind the ridge too, and the answers find the gateway; the hop limits tell by which routers.
func TestInsideAnswers(t *testing.T) {
	l, got := plugged(t)
	ridge := netip.MustParseAddr("10.20.0.2")
	for dst, hop := range map[string]netip.Addr{"10.20.0.20": {}, "10.20.30.5": ridge, "10.20.40.10": ridge} {
		l.Send(leaving(site.Egress{Network: "station", NextHop: hop}, ping("10.99.0.5", dst)))
		i := next(t, got)
		require.Equal(t, dst, i.Src.String())
		require.Equal(t, "10.99.0.5", i.Dst.String())
		require.EqualValues(t, 0, i.Kind)
		require.Equal(t, hop.IsValid(), i.HopLimit == 63, "one router more on the way")
	}
	l.Send(leaving(site.Egress{Network: plan.Internet}, ping("192.0.2.10", "198.51.100.80")))
	require.Equal(t, "198.51.100.80", next(t, got).Src.String())

	// Nobody there, no way back on the internet, a link that the site does not have, hops used up: silence.
	tired := ping("10.99.0.5", "10.20.30.5")
	tired[8] = 1
	for _, f := range [][]gateway.Frames{
		leaving(site.Egress{Network: "station"}, ping("10.99.0.5", "10.20.0.77")),
		leaving(site.Egress{Network: plan.Internet}, ping("10.99.0.5", "198.51.100.80")),
		leaving(site.Egress{Network: "station", NextHop: netip.MustParseAddr("172.31.0.1")}, ping("10.99.0.5", "10.20.0.20")),
		leaving(site.Egress{Network: "station", NextHop: ridge}, tired),
		leaving(site.Egress{}, []byte("no packet")),
	} {
		l.Send(f)
	}
	select {
	case b := <-got:
		t.Fatalf("something came: %x", b)
	case <-time.After(300 * time.Millisecond):
	}
}

// The home router gives a device its address, translates what it sends, lets in only what answers, keeps home traffic at home,
// and sends nothing for an address that is not the device's.
func TestHomeRouter(t *testing.T) {
	l, got := plugged(t)
	c, err := net.DialUDP("udp", nil, net.UDPAddrFromAddrPort(l.Vantages()[0].Link))
	require.NoError(t, err)
	defer c.Close()
	buf := make([]byte, 2000)
	read := func() []byte {
		_ = c.SetReadDeadline(time.Now().Add(300 * time.Millisecond))
		n, err := c.Read(buf)
		if err != nil {
			return nil
		}
		return buf[:n]
	}
	_, _ = c.Write(Hello)
	welcome := string(read())
	require.True(t, strings.Contains(welcome, "192.168.77.20") && strings.Contains(welcome, "198.51.100.53"), welcome)

	_, _ = c.Write(ping("192.168.77.20", "198.51.100.80"))
	i, err := packet.Parse(read())
	require.NoError(t, err)
	require.Equal(t, "192.168.77.20", i.Dst.String(), "the mirror's answer is translated back")
	require.EqualValues(t, 1, i.Ident)

	_, _ = c.Write(ping("192.168.77.20", "192.0.2.10"))
	seen := next(t, got)
	require.Equal(t, "203.0.113.45", seen.Src.String(), "the gateway sees the home router")
	for _, silent := range [][]byte{
		ping("192.168.77.99", "198.51.100.80"), ping("192.168.77.20", "192.168.77.7"),
		ping("192.168.77.20", "10.20.0.20"), []byte("no packet"),
	} {
		_, _ = c.Write(silent)
		require.Nil(t, read())
	}
	l.Send(leaving(site.Egress{Network: plan.Internet},
		packet.UDP(netip.MustParseAddrPort("192.0.2.10:4500"), netip.MustParseAddrPort("203.0.113.45:50000"), []byte("unasked"))))
	require.Nil(t, read(), "what nobody asked for stays outside")
	require.Empty(t, got)
}

func TestDropped(t *testing.T) {
	to := packet.UDP(netip.MustParseAddrPort("203.0.113.45:1111"), netip.MustParseAddrPort("192.0.2.10:4500"), []byte("x"))
	back := packet.UDP(netip.MustParseAddrPort("192.0.2.10:4500"), netip.MustParseAddrPort("203.0.113.45:1111"), []byte("x"))
	for _, b := range [][]byte{to, back} {
		i, err := packet.Parse(b)
		require.NoError(t, err)
		require.True(t, dropped([]string{"udp/4500"}, i), "both ways")
		require.False(t, dropped([]string{"udp/500", "tcp/4500", "nonsense"}, i))
	}
}
