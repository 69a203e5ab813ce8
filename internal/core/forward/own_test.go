package forward

import (
	"net"
	"net/netip"
	"testing"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/packet"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/core/site"
	"yellowlantern/internal/testkit/island"
)

// What a device asks of the gateway's own services is answered, into its own tunnel and so often, and nothing of it goes on; what only
// looks like it is lost there.
func TestOwnServices(t *testing.T) {
	six := netip.MustParseAddr("fd00:99::5")
	m := island.Model(t)
	e := New(m, &session.Table{})
	routes := m.Class([]string{"researchers"}).Passage.Routes
	s := &Session{
		ID: 1, User: "rory", Groups: []string{"researchers"}, Addresses: []netip.Addr{warden, six}, MTU: 1400, Routes: routes,
		DNS: []netip.Addr{netip.MustParseAddr("10.20.0.53")}, Domains: []string{"tern.example"},
	}
	attach(e, s)
	ask, err := dhcpv4.New(dhcpv4.WithMessageType(dhcpv4.MessageTypeInform), dhcpv4.WithClientIP(net.IP(warden.AsSlice())),
		dhcpv4.WithRequestedOptions(dhcpv4.OptionClasslessStaticRoute, dhcpv4.OptionDomainName))
	require.NoError(t, err)
	dhcp := func(src string) []byte {
		return packet.UDP(netip.MustParseAddrPort(src), netip.MustParseAddrPort("255.255.255.255:67"), ask.ToBytes())
	}
	r := e.FromTunnel(s, dhcp("10.99.0.5:68"), noon)
	require.Same(t, s, r.Session)
	require.Nil(t, r.Inside)
	told, err := dhcpv4.FromBytes(r.Packet[28:])
	require.NoError(t, err)
	require.Equal(t, "tern.example", told.DomainName())
	var got []string
	for _, x := range told.ClasslessStaticRoute() {
		got = append(got, x.Dest.String())
	}
	var want []string
	for _, p := range routes.Prefixes() {
		if p.Addr().Is4() {
			want = append(want, p.String())
		}
	}
	require.Equal(t, want, got)

	solicits := func(src string) []byte {
		b := packet.Message(netip.MustParseAddr(src), netip.MustParseAddr("ff02::2"), []byte{133, 0, 0, 0, 0, 0, 0, 0})
		b[7] = 255
		return b
	}
	for _, src := range []string{"fe80::7", "::", "fd00:99::5"} {
		r = e.FromTunnel(s, solicits(src), noon)
		require.Same(t, s, r.Session, src)
		require.EqualValues(t, 134, r.Packet[40])
	}
	require.Equal(t, site.Source, e.FromTunnel(s, solicits("fd00:99::6"), noon).Station)
	require.Equal(t, site.Source, e.FromTunnel(s, dhcp("10.99.0.6:68"), noon).Station)
	require.Equal(t, site.OwnServices, e.FromTunnel(s, dhcp("10.99.0.5:5000"), noon).Station, "no client's port")
	spoilt := solicits("fe80::7")
	spoilt[7] = 64
	require.Equal(t, site.OwnServices, e.FromTunnel(s, spoilt, noon).Station)
	require.Zero(t, e.Flows())

	answered := 0
	for range 300 {
		if e.FromTunnel(s, dhcp("10.99.0.5:68"), noon.Add(5e9)).Session != nil {
			answered++
		}
	}
	require.Equal(t, answersMost, answered)
}
