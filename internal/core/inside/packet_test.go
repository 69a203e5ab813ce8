package inside

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestPacketRoom(t *testing.T) {
	p := Roomy([]byte("packet"))
	require.Equal(t, "packet", string(p.Bytes()))
	require.True(t, p.Has(Headroom, Tailroom))
	require.False(t, p.Has(Headroom+1, 0))
	require.False(t, p.Has(0, Tailroom+1))
	require.Equal(t, 6, cap(p.Bytes()), "who appends to it does not write over what follows")

	shorter := p.Became(p.Bytes()[:4])
	require.Equal(t, "pack", string(shorter.Bytes()))
	require.True(t, shorter.Has(Headroom, Tailroom+2), "it was altered where it stands")
	for _, other := range [][]byte{[]byte("packet"), p.Bytes()[1:], nil, p.Buf[p.Off : p.Off+8]} {
		became := p.Became(other)
		require.Equal(t, other, became.Bytes())
		require.False(t, became.Has(1, 0), "another one has no room that is known of")
	}
	require.Equal(t, "bare", string(Bare([]byte("bare")).Bytes()))
}
