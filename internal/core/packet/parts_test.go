package packet

import (
	"encoding/binary"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yellowlantern/internal/core/netset"
)

var noon = time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)

// long writes a UDP packet with headers between IP's and UDP's: options of which one is for every part, or hop-by-hop options.
func long(v6, extras bool, payload []byte) []byte {
	udp := append([]byte{0x9c, 0x40, 0, 53, 0, 0, 0, 0}, payload...)
	if v6 {
		b := make([]byte, 40)
		b[0], b[6], b[7], b[23], b[39] = 0x60, netset.UDP, 64, 1, 2
		if extras {
			b[6] = 0
			b = append(b, netset.UDP, 0, 1, 4, 0, 0, 0, 0)
		}
		b = append(b, udp...)
		put(b[4:], uint16(len(b)-40))
		return b
	}
	b := make([]byte, 20)
	b[0], b[5], b[8], b[9], b[15], b[19] = 0x45, 9, 64, netset.UDP, 1, 2
	if extras { // a record of the route, which is for the first part alone, and a security option, which is for all
		b[0] = 0x47
		b = append(b, 7, 3, 4, 0x82, 4, 1, 1, 0)
	}
	b = append(b, udp...)
	put(b[2:], uint16(len(b)))
	sum4(b[:int(b[0]&15)*4])
	return b
}

// What is cut is whole again, in whatever order its parts come and however often, and no part is larger than it may be.
func TestPartsMakeTheWhole(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		v6 := rapid.Bool().Draw(t, "v6")
		b := long(v6, rapid.Bool().Draw(t, "extras"), rapid.SliceOfN(rapid.Byte(), 0, 9000).Draw(t, "payload"))
		most := rapid.IntRange(map[bool]int{false: 96, true: 1280}[v6], 1500).Draw(t, "most")
		parts := Cut(b, most, 77)
		for _, x := range parts {
			require.LessOrEqual(t, len(x), most)
			i, err := Parse(x)
			require.NoError(t, err)
			require.Equal(t, len(parts) > 1, i.Fragment)
			if !v6 {
				require.Zero(t, Checksum(x[:i.Transport], 0))
			}
		}
		if len(parts) == 1 {
			require.Equal(t, b, parts[0])
			return
		}
		if len(parts) > partsEach {
			return
		}
		if !v6 && b[0] == 0x47 {
			require.Equal(t, []byte{1, 1, 1, 0x82, 4, 1, 1, 0}, parts[1][20:28], "only what is for every part is in every part")
		}
		c := Collector{Room: 1 << 20}
		sent := rapid.Permutation(parts).Draw(t, "order")
		sent = slices.Insert(sent, 1, sent[0])
		for n, x := range sent {
			i, err := Parse(x)
			require.NoError(t, err)
			whole, came := c.Add(x, i, false, noon)
			if n < len(sent)-1 {
				require.Nil(t, whole)
				continue
			}
			require.Equal(t, b, whole)
			require.LessOrEqual(t, came.Largest, most)
		}
		require.Zero(t, c.Kept())
		require.Zero(t, c.Lost())
	})
}

// Nothing comes of what contradicts itself, comes by two links or too late, and nobody makes us keep more than there is room for.
func TestPartsThatMakeNothing(t *testing.T) {
	parts := Cut(long(false, false, make([]byte, 3000)), 1000, 0)
	for what, change := range map[string]func(c *Collector, x [][]byte) (link bool, late time.Duration){
		"overlap": func(_ *Collector, x [][]byte) (bool, time.Duration) {
			put(x[1][6:], binary.BigEndian.Uint16(x[1][6:])-1)
			return false, 0
		},
		"other octets in the same place": func(c *Collector, x [][]byte) (bool, time.Duration) {
			other := slices.Clone(x[1])
			other[40] = 1
			c.Add(other, must(Parse(other)), false, noon)
			return false, 0
		},
		"two ends": func(_ *Collector, x [][]byte) (bool, time.Duration) {
			put(x[1][6:], binary.BigEndian.Uint16(x[1][6:])&0x1fff)
			x[0], x[3] = x[3], x[0]
			return false, 0
		},
		"another link":     func(*Collector, [][]byte) (bool, time.Duration) { return true, 0 },
		"too late":         func(*Collector, [][]byte) (bool, time.Duration) { return false, partsFor + time.Second },
		"another packet's": func(_ *Collector, x [][]byte) (bool, time.Duration) { x[1][5]++; return false, 0 },
	} {
		t.Run(what, func(t *testing.T) {
			c := Collector{Room: 1 << 20}
			x := make([][]byte, len(parts))
			for n := range parts {
				x[n] = slices.Clone(parts[n])
			}
			link, late := change(&c, x)
			for n, b := range x {
				at := noon
				if n > 0 {
					at = noon.Add(late)
				}
				whole, _ := c.Add(b, must(Parse(b)), link && n > 0, at)
				require.Zero(t, len(whole))
			}
		})
	}
	c := Collector{Room: 64 << 10}
	for n := range 2000 {
		x := slices.Clone(parts[0])
		put(x[4:], uint16(n))
		c.Add(x, must(Parse(x)), false, noon)
		require.LessOrEqual(t, c.Kept(), c.Room)
		require.LessOrEqual(t, len(c.piles), pilesMost)
	}
	require.NotZero(t, c.Lost())
	for _, x := range parts { // there is room for those that come now
		whole, _ := c.Add(x, must(Parse(x)), false, noon)
		require.Equal(t, len(parts) > 0 && &x[0] == &parts[len(parts)-1][0], whole != nil)
	}
}
