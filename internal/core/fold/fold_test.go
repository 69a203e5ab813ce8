package fold

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestAddr(t *testing.T) {
	plain := netip.MustParseAddr("192.0.2.10")
	mapped := netip.MustParseAddr("::ffff:192.0.2.10")
	six := netip.MustParseAddr("2001:db8::1")
	require.Equal(t, plain, Addr(mapped))
	require.Equal(t, []netip.Addr{plain, six}, Addrs([]netip.Addr{mapped, six}))
	require.Equal(t, "192.0.2.10:500", AddrPort(netip.AddrPortFrom(mapped, 500)).String())
}

func TestName(t *testing.T) {
	for written, name := range map[string]string{
		"rory": "rory", " Rory ": "rory", "ÄNNE": "änne", "A\u0308nne": "änne", "ｒｏｒｙ": "rory", "ſtaff": "staff", "STRASSE": "strasse",
		"Straße": "strasse", "\u212bsa": "åsa", "ﬁona": "fiona", "": "", "\u00a8": "\u0308", "\uab70": "\u13a0", "\u13a0": "\u13a0",
	} {
		require.Equal(t, name, Name(written), "%q", written)
	}
	require.False(t, Same("dora", "dara"))
	rapid.Check(t, func(t *rapid.T) {
		s := Name(rapid.String().Draw(t, "name"))
		require.Equal(t, s, Name(s), "folding twice changes nothing")
	})
}
