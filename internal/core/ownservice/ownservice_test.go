package ownservice

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"testing"

	"github.com/insomniacslk/dhcp/dhcpv4"
	wire "github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/packet"
)

func addrs(words ...string) (out []netip.Addr) {
	for _, w := range words {
		out = append(out, netip.MustParseAddr(w))
	}
	return out
}

func prefixes(words ...string) netset.Addrs {
	var out []netip.Prefix
	for _, w := range words {
		out = append(out, netip.MustParsePrefix(w))
	}
	return netset.OfPrefixes(out...)
}

var told = Told{
	Server: netip.MustParseAddr("10.20.0.1"), DNS: addrs("10.20.0.53", "fd00:20::53"), Domains: []string{"tern.example", "skua.example"},
	Routes: prefixes("10.20.0.0/24", "10.20.30.0/23", "172.16.0.0/12", "fd00:20::/64", "fd00:30::/48"), MTU: 1400,
}

// inform is what a client asks, with the options that it wants to hear of.
func inform(t testing.TB, kind dhcpv4.MessageType, wants ...dhcpv4.OptionCode) []byte {
	m, err := dhcpv4.New(dhcpv4.WithMessageType(kind), dhcpv4.WithClientIP(net.IPv4(10, 99, 0, 1)), dhcpv4.WithRequestedOptions(wants...))
	require.NoError(t, err)
	return packet.UDP(netip.MustParseAddrPort("10.99.0.1:68"), netip.MustParseAddrPort("255.255.255.255:67"), m.ToBytes())
}

func parse(t testing.TB, b []byte) packet.Info {
	i, err := packet.Parse(b)
	require.NoError(t, err)
	return i
}

// A client hears of what it asks for, from what its passage gives, in the octets of the standards: routes by the newer option where it
// knows that, by the older one where not.
func TestDHCP(t *testing.T) {
	routesAre := []byte{ // RFC 3442: width, significant octets, router
		23, 10, 20, 30, 0, 0, 0, 0, // 10.20.30.0/23
		24, 10, 20, 0, 0, 0, 0, 0,
		12, 172, 16, 0, 0, 0, 0,
	}
	sorted := append(append([]byte{}, routesAre[8:16]...), append(append([]byte{}, routesAre[:8]...), routesAre[16:]...)...) // by address
	for _, x := range []struct {
		wants []dhcpv4.OptionCode
		has   map[uint8][]byte
	}{
		{[]dhcpv4.OptionCode{dhcpv4.OptionClasslessStaticRoute, optionOlderRoutes}, map[uint8][]byte{121: sorted}},
		{[]dhcpv4.OptionCode{optionOlderRoutes, dhcpv4.OptionDomainName}, map[uint8][]byte{249: sorted, 15: []byte("tern.example")}},
		{[]dhcpv4.OptionCode{dhcpv4.OptionDomainNameServer, dhcpv4.OptionInterfaceMTU}, map[uint8][]byte{6: {10, 20, 0, 53}, 26: {0x05, 0x78}}},
		{[]dhcpv4.OptionCode{dhcpv4.OptionDNSDomainSearchList}, map[uint8][]byte{119: []byte("\x04tern\x07example\x00\x04skua\x07example\x00")}},
		{[]dhcpv4.OptionCode{dhcpv4.OptionRouter, dhcpv4.OptionSubnetMask}, nil},
	} {
		b := inform(t, dhcpv4.MessageTypeInform, x.wants...)
		out, ok := DHCP(b, parse(t, b), told)
		require.True(t, ok)
		i := parse(t, out)
		require.Equal(t, netip.MustParseAddr("10.20.0.1"), i.Src)
		require.Equal(t, netip.MustParseAddr("10.99.0.1"), i.Dst)
		require.Equal(t, []uint16{67, 68}, []uint16{i.SrcPort, i.DstPort})
		m, err := dhcpv4.FromBytes(out[28:])
		require.NoError(t, err)
		require.Equal(t, dhcpv4.MessageTypeAck, m.MessageType())
		require.True(t, m.YourIPAddr.Equal(net.IPv4zero), "no address is given: RFC 2131 §4.3.5")
		require.False(t, m.Options.Has(dhcpv4.OptionIPAddressLeaseTime))
		for code := range uint8(255) {
			if want, has := x.has[code]; has || code != 53 && code != 54 && m.Options.Has(dhcpv4.GenericOptionCode(code)) {
				require.Equal(t, want, m.Options.Get(dhcpv4.GenericOptionCode(code)), "option %d", code)
			}
		}
	}
	for _, kind := range []dhcpv4.MessageType{
		dhcpv4.MessageTypeDiscover, dhcpv4.MessageTypeRequest, dhcpv4.MessageTypeAck, dhcpv4.MessageTypeNone,
	} {
		b := inform(t, kind)
		_, ok := DHCP(b, parse(t, b), told)
		require.False(t, ok, "%s: an address was leased at the login", kind)
	}
	many := told
	for n := range 200 {
		many.Routes = many.Routes.Union(prefixes(fmt.Sprintf("10.%d.0.0/24", n)))
	}
	b := inform(t, dhcpv4.MessageTypeInform, dhcpv4.OptionDomainName, dhcpv4.OptionClasslessStaticRoute)
	out, ok := DHCP(b, parse(t, b), many)
	require.True(t, ok)
	require.Less(t, len(out), 1280)
}

// solicit is a router solicitation with options.
func solicit(src string, options ...byte) []byte {
	b := packet.Message(netip.MustParseAddr(src), AllRouters, append([]byte{133, 0, 0, 0, 0, 0, 0, 0}, options...))
	b[7] = 255
	return b
}

// A device hears of routes one by one, or that everything goes by the gateway; of names and sizes; and of no prefix to make addresses of.
func TestRouters(t *testing.T) {
	from := func(src string, told Told) ([]byte, packet.Info) {
		b := solicit(src, 1, 1, 2, 0, 0, 0, 0, 1)
		out, ok := Routers(b, parse(t, b), told)
		require.True(t, ok)
		i := parse(t, out)
		require.Equal(t, netip.MustParseAddr("fe80::1"), i.Src)
		require.EqualValues(t, 255, i.HopLimit)
		return out[40:], i
	}
	text := func(words ...string) []byte {
		out, err := hex.DecodeString(strings.ReplaceAll(strings.Join(words, ""), " ", ""))
		require.NoError(t, err)
		return out
	}
	out, i := from("fe80::7", told)
	require.Equal(t, netip.MustParseAddr("fe80::7"), i.Dst)
	require.Equal(t, text("86 00"), out[:2])
	require.Equal(t, make([]byte, 12), out[4:16], "no default router")
	rest := bytes.Join([][]byte{
		text("05 01 0000 00000578"),
		text("19 03 0000 ffffffff fd000020000000000000000000000053"),
		append(append(text("1f 05 0000 ffffffff"), "\x04tern\x07example\x00\x04skua\x07example\x00"...), 0, 0, 0, 0),
		text("18 02 40 00 ffffffff fd00002000000000"), // fd00:20::/64
		text("18 02 30 00 ffffffff fd00003000000000"),
	}, nil)
	require.Equal(t, rest, out[16:])

	full := told
	full.Full, full.Routes = true, netset.Everywhere
	out, i = from("::", full)
	require.Equal(t, netip.MustParseAddr("ff02::1"), i.Dst)
	require.Equal(t, uint16(65535), binary.BigEndian.Uint16(out[6:]), "everything goes this way")
	require.NotContains(t, string(out[16:]), "\x18\x02")
	pseudo := append(text("fe800000000000000000000000000001ff020000000000000000000000000001"), 0, 0, 0, byte(len(out)), 0, 0, 0, 58)
	require.Zero(t, packet.Checksum(append(pseudo, out...), 0))

	for what, b := range map[string][]byte{
		"forwarded": func() []byte { b := solicit("fe80::7"); b[7] = 64; return b }(), "an option of no length": solicit("fe80::7", 1, 0, 0, 0, 0, 0, 0, 0),
		"cut": solicit("fe80::7", 1, 2, 0, 0, 0, 0, 0, 0),
	} {
		_, ok := Routers(b, parse(t, b), told)
		require.False(t, ok, what)
	}
}

func FuzzOwnServices(f *testing.F) {
	f.Add(inform(f, dhcpv4.MessageTypeInform, dhcpv4.OptionDomainName))
	f.Add(solicit("fe80::7", 1, 1, 2, 0, 0, 0, 0, 1))
	f.Fuzz(func(t *testing.T, b []byte) {
		i, err := packet.Parse(b)
		if err != nil {
			return
		}
		b = b[:i.Size]
		for _, answer := range []func([]byte, packet.Info, Told) ([]byte, bool){DHCP, Routers} {
			if i.Fragment {
				continue
			}
			if out, ok := answer(b, i, told); ok {
				_, err := packet.Parse(out)
				require.NoError(t, err)
				require.LessOrEqual(t, len(out), 1280+48)
			}
		}
	})
}

// Whatever is asked: no panic, and an answer only to a question, to who asked it, with the page's addresses for its name alone.
func FuzzNames(f *testing.F) {
	var ask wire.Msg
	ask.SetQuestion("code.tern.example.", wire.TypeA)
	right, err := ask.Pack()
	require.NoError(f, err)
	for _, b := range [][]byte{right, {}, right[:12], append([]byte{0, 0, 0x80}, right[3:]...), []byte(strings.Repeat("\xc0\x0c", 40))} {
		f.Add(b)
	}
	page := Told{Page: "code.tern.example", PageAt: addrs("10.99.255.1", "fd00:99:ffff::1")}
	f.Fuzz(func(t *testing.T, data []byte) {
		b := packet.UDP(netip.MustParseAddrPort("10.99.0.1:40000"), netip.MustParseAddrPort("10.20.0.53:53"), data)
		info, err := packet.Parse(b)
		require.NoError(t, err)
		out, ok := Names(b, info, page)
		if !ok {
			return
		}
		i, err := packet.Parse(out)
		require.NoError(t, err)
		require.Equal(t, []netip.Addr{info.Dst, info.Src}, []netip.Addr{i.Src, i.Dst})
		require.Equal(t, []uint16{53, 40000}, []uint16{i.SrcPort, i.DstPort})
		var reply wire.Msg
		require.NoError(t, reply.Unpack(out[i.Transport+8:]))
		require.True(t, reply.Response)
		for _, rr := range reply.Answer {
			require.True(t, strings.EqualFold("code.tern.example.", rr.Header().Name), rr.String())
		}
	})
}
