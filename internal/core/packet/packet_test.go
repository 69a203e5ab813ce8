package packet

import (
	"encoding/binary"
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yellowlantern/internal/core/netset"
)

var (
	a4, b4, c4 = netip.MustParseAddr("10.99.0.5"), netip.MustParseAddr("10.20.30.5"), netip.MustParseAddr("192.0.2.10")
	a6, b6, c6 = netip.MustParseAddr("fd00:99::5"), netip.MustParseAddr("fd00:20::5"), netip.MustParseAddr("2001:db8::10")
)

// whole tells whether every checksum of a UDP or ICMP packet is right, worked out from nothing.
func whole(b []byte, i Info) bool {
	if i.Src.Is4() && Checksum(b[:i.Transport], 0) != 0 {
		return false
	}
	begun := uint32(0)
	if i.Proto != netset.ICMP {
		addrs := append(i.Src.AsSlice(), i.Dst.AsSlice()...)
		begun = pseudo(addrs, i.Size-i.Transport, i.Proto)
	}
	return Checksum(b[i.Transport:i.Size], begun) == 0
}

// Whatever is rewritten, checksums stay right and nothing else changes.
func TestRewriting(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		data := rapid.SliceOfN(rapid.Byte(), 0, 60).Draw(t, "data")
		v4 := rapid.Bool().Draw(t, "v4")
		src, dst, other := a6, b6, c6
		if v4 {
			src, dst, other = a4, b4, c4
		}
		port := rapid.Uint16().Draw(t, "port")
		var b []byte
		if rapid.Bool().Draw(t, "udp") {
			b = UDP(netip.AddrPortFrom(src, rapid.Uint16().Draw(t, "from")), netip.AddrPortFrom(dst, rapid.Uint16().Draw(t, "to")), data)
		} else {
			b = EchoRequest(src, dst, append([]byte{1, 2, 3, 4}, data...))
		}
		i, err := Parse(b)
		require.NoError(t, err)
		require.True(t, whole(b, i))
		before := i
		if rapid.Bool().Draw(t, "source") {
			SetSrc(b, &i, other, port)
			require.Equal(t, other, i.Src)
		} else {
			SetDst(b, &i, other, port)
			require.Equal(t, other, i.Dst)
		}
		DecrementHopLimit(b)
		after, err := Parse(b)
		require.NoError(t, err)
		require.True(t, whole(b, after))
		require.Equal(t, before.HopLimit-1, after.HopLimit)
		after.HopLimit = i.HopLimit
		require.Equal(t, i, after)
		require.Equal(t, data, append([]byte{}, b[len(b)-len(data):]...))
	})
}

func TestErrorsAndTheirQuotes(t *testing.T) {
	for _, x := range []struct{ src, dst, router netip.Addr }{{a4, b4, c4}, {a6, b6, c6}} {
		b := UDP(netip.AddrPortFrom(x.src, 1111), netip.AddrPortFrom(x.dst, 53), make([]byte, 1200))
		i, err := Parse(b)
		require.NoError(t, err)
		for trouble := Prohibited; trouble <= TooBig; trouble++ {
			e := Error(b, i, x.router, trouble, 1380)
			ei, err := Parse(e)
			require.NoError(t, err)
			require.True(t, whole(e, ei))
			require.True(t, ei.ICMPError())
			require.Equal(t, x.src, ei.Dst)
			require.LessOrEqual(t, len(e), 1280, "fits every link")
			q, _, err := Quoted(e, ei)
			require.NoError(t, err)
			require.Equal(t, []any{x.src, x.dst, uint16(1111), uint16(53)}, []any{q.Src, q.Dst, q.SrcPort, q.DstPort})
			require.Nil(t, Error(e, ei, x.router, NoRoute, 0), "no error about an error")
		}
		require.Nil(t, Error(b, i, netip.Addr{}, NoRoute, 0))
		require.True(t, whole(EchoReply(EchoRequest(x.src, x.dst, []byte{0, 1, 0, 2}),
			must(Parse(EchoRequest(x.src, x.dst, []byte{0, 1, 0, 2})))),
			must(Parse(EchoReply(EchoRequest(x.src, x.dst, []byte{0, 1, 0, 2}),
				must(Parse(EchoRequest(x.src, x.dst, []byte{0, 1, 0, 2}))))))))
	}
}

func must(i Info, err error) Info {
	if err != nil {
		panic(err)
	}
	return i
}

// IPv6 extension headers are stepped over; a fragment is known as one; what contradicts itself is malformed.
func TestParse(t *testing.T) {
	udp := UDP(netip.AddrPortFrom(a6, 1), netip.AddrPortFrom(b6, 2), []byte("x"))
	with := func(next byte, ext ...byte) []byte {
		b := append(slices.Clone(udp[:40]), ext...)
		b = append(b, udp[40:]...)
		b[6] = next
		binary.BigEndian.PutUint16(b[4:], uint16(len(b)-40))
		return b
	}
	i := must(Parse(with(0, 17, 0, 0, 0, 0, 0, 0, 0)))
	require.EqualValues(t, 2, i.DstPort)
	require.False(t, i.Fragment)
	require.True(t, must(Parse(with(44, 17, 0, 0, 0, 0, 0, 0, 0))).Fragment)
	four := UDP(netip.AddrPortFrom(a4, 1), netip.AddrPortFrom(b4, 2), []byte("x"))
	four[6] = 0x20
	require.True(t, must(Parse(four)).Fragment)
	for _, bad := range [][]byte{
		nil,
		{0x45},
		make([]byte, 40), with(0, 17, 200, 0, 0, 0, 0, 0, 0), with(0, 0, 0, 0, 0, 0, 0, 0, 0)[:47],
		udp[:45], append([]byte{0x44}, four[1:]...),
	} {
		_, err := Parse(bad)
		require.Error(t, err, "%x", bad)
	}
}
