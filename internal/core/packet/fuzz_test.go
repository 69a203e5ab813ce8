package packet

import (
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
)

// Whatever comes, reading it does not fail otherwise than by an error, and what forwarding does to a packet that was read leaves one that
// can be read again, with the same ends where it left those alone.
func FuzzParse(f *testing.F) {
	v4, v6 := netip.MustParseAddr("10.99.0.5"), netip.MustParseAddr("fd00:99::5")
	f.Add(EchoRequest(v4, netip.MustParseAddr("10.20.0.20"), []byte{0, 1, 0, 1}))
	f.Add(EchoRequest(v6, netip.MustParseAddr("fd00:20::20"), []byte{0, 1, 0, 1}))
	f.Add(UDP(netip.AddrPortFrom(v4, 40000), netip.MustParseAddrPort("10.20.0.53:53"), []byte("name")))
	f.Add(append(UDP(netip.AddrPortFrom(v6, 40000), netip.MustParseAddrPort("[fd00:20::53]:53"), []byte("name")), 1, 2))
	asked := EchoRequest(v4, netip.MustParseAddr("10.20.0.20"), []byte{0, 1, 0, 1})
	i, err := Parse(asked)
	require.NoError(f, err)
	f.Add(Error(asked, i, netip.MustParseAddr("10.20.0.1"), TooBig, 1280))
	f.Fuzz(func(t *testing.T, b []byte) {
		i, err := Parse(b)
		if err != nil {
			return
		}
		if e := EndsOf(b, i); e.proto != 0 {
			size, flags, ok := e.Have(b)
			require.True(t, ok)
			require.Equal(t, i.Size, size)
			require.Equal(t, i.Flags, flags)
			for at := range min(len(b), 60) { // another packet is one of the same flow only where it reads as one
				b[at] ^= 0x11
				if size, flags, ok := e.Have(b); ok {
					j, err := Parse(b)
					require.NoError(t, err)
					require.Equal(t, []any{i.Src, i.Dst, i.Proto, i.SrcPort, i.DstPort, false}, []any{
						j.Src, j.Dst,
						j.Proto, j.SrcPort, j.DstPort, j.Fragment,
					})
					require.Equal(t, []any{j.Size, j.Flags}, []any{size, flags})
				}
				b[at] ^= 0x11
			}
		}
		b = slices.Clone(b[:i.Size])
		if in, _, err := Quoted(b, i); err == nil {
			require.NoError(t, SetQuoted(slices.Clone(b), i, in.Src, 7, true))
		}
		if i.EchoRequest() {
			require.NotEmpty(t, EchoReply(slices.Clone(b), i))
		}
		from := v4
		if !i.Src.Is4() {
			from = v6
		}
		if e := Error(b, i, from, NoRoute, 0); e != nil {
			j, err := Parse(e)
			require.NoError(t, err)
			require.Equal(t, i.Src, j.Dst)
		}
		c := Collector{Room: 1 << 16}
		if i.Fragment {
			if whole, _ := c.Add(b, i, false, noon); whole != nil {
				_, err := Parse(whole)
				require.True(t, err == nil || len(whole) > 0)
			}
		}
		for _, x := range Cut(b, 1280, 1) {
			require.LessOrEqual(t, len(x), max(1280, len(b)))
			_, err := Parse(x)
			require.NoError(t, err)
		}
		ClampMSS(b, i, 1280)
		DecrementHopLimit(b)
		if !i.Fragment {
			SetSrc(b, &i, from, 4711)
		}
		j, err := Parse(b)
		require.NoError(t, err)
		require.Equal(t, i.Dst, j.Dst)
		require.Equal(t, i.Size, j.Size)
	})
}
