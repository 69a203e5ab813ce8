package segment

import (
	"encoding/binary"
	"fmt"
	"maps"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/packet"
)

// written is a packet by its fields, for tests.
type written struct {
	v6, udp                bool
	from, port             byte
	ident                  uint16
	tos, ttl, fragment     byte // fragment: the flags' octet
	sequence               uint32
	flags                  byte
	options, ipOptions     []byte
	urgent, window         uint16
	payload                []byte
	extension              bool // IPv6: destination options in front
	noChecksum, badly, odd bool // badly: a wrong one; odd: zero, or its other way to be written
}

func (w written) octets() []byte {
	t := []byte{0x9c, w.port, 0x01, 0xbb}
	if w.udp {
		t = append(t, 0, 0, 0, 0)
		binary.BigEndian.PutUint16(t[4:], uint16(8+len(w.payload)))
	} else {
		t = binary.BigEndian.AppendUint32(t, w.sequence)
		t = append(t, 1, 2, 3, 4, byte((20+len(w.options))/4)<<4, w.flags)
		t = binary.BigEndian.AppendUint16(t, w.window)
		t = append(t, 0, 0)
		t = binary.BigEndian.AppendUint16(t, w.urgent)
		t = append(t, w.options...)
	}
	t = append(t, w.payload...)
	proto := byte(netset.TCP)
	if w.udp {
		proto = netset.UDP
	}
	var b []byte
	if w.v6 {
		next, between := proto, []byte{}
		if w.extension {
			next, between = 60, []byte{proto, 0, 1, 4, 0, 0, 0, 0}
		}
		b = append([]byte{0x60 | w.tos>>4, w.tos << 4, 0, 0, 0, 0, next, w.ttl}, make([]byte, 32)...)
		binary.BigEndian.PutUint16(b[4:], uint16(len(between)+len(t)))
		b[8], b[23], b[24], b[39] = 0xfd, w.from, 0xfd, 9
		b = append(b, between...)
	} else {
		b = append([]byte{
			0x40 | byte(5+len(w.ipOptions)/4), w.tos, 0, 0, 0, 0, w.fragment, 0, w.ttl, proto, 0, 0, 10, 0, 0,
			w.from, 10, 0, 0, 9,
		}, w.ipOptions...)
		binary.BigEndian.PutUint16(b[2:], uint16(len(b)+len(t)))
		binary.BigEndian.PutUint16(b[4:], w.ident)
		binary.BigEndian.PutUint16(b[10:], packet.Checksum(b, 0))
	}
	at := map[bool]int{true: 6, false: 16}[w.udp]
	sum := packet.Checksum(t, packet.PseudoSum(b, proto, len(t)))
	switch {
	case w.udp && w.noChecksum:
		sum = 0
	case w.badly:
		sum ^= 0x0101
	case w.udp && sum == 0:
		sum = 0xffff
	case w.odd && sum == 0:
		sum = 0xffff
	}
	binary.BigEndian.PutUint16(t[at:], sum)
	return append(b, t...)
}

// cut is what a kernel makes of a unit that it is handed.
func cut(t require.TestingT, u *Unit) (out [][]byte) {
	var head [HeaderLen]byte
	u.Header.Put(head[:])
	whole := slices.Concat(u.Parts...)
	each, err := ReadHeader(head[:]).Finish(whole)
	require.NoError(t, err)
	if each == 0 {
		return [][]byte{whole}
	}
	i, err := packet.Parse(whole)
	require.NoError(t, err)
	require.Equal(t, i.Size, len(whole))
	s, err := ShapeOf(whole, each)
	require.NoError(t, err)
	require.Equal(t, len(u.Parts), s.Count())
	require.Equal(t, [3]int{s.head, s.transport, len(u.Parts[0]) - s.head}, [3]int{int(u.Header.head), int(u.Header.start), each})
	partial := whole[s.transport+int(u.Header.offset):]
	require.Equal(t, packet.Fold(packet.PseudoSum(whole, i.Proto, len(whole)-s.transport)), binary.BigEndian.Uint16(partial),
		"what a device begins with")
	for k := range s.Count() {
		b := make([]byte, s.Len(k))
		s.Put(k, b)
		out = append(out, b)
	}
	return out
}

// Whatever comes, in whatever order: what is joined and cut again is what came, octet by octet, and in its order within each flow. Most of
// it is joined where it follows on.
func TestJoinedIsCutAgain(t *testing.T) {
	joined, alone := 0, 0
	rapid.Check(t, func(t *rapid.T) {
		var flows [3]written
		for i := range flows {
			flows[i] = written{
				v6: rapid.Bool().Draw(t, "IPv6"), udp: rapid.IntRange(0, 3).Draw(t, "UDP") == 0, from: byte(rapid.IntRange(1, 2).Draw(t, "from")),
				port: byte(i), ident: rapid.SampledFrom([]uint16{0, 7, 0xfffe}).Draw(t, "identification"), ttl: 64, fragment: rapid.SampledFrom([]byte{0, 0x40}).Draw(t, "not to be cut"),
				sequence: rapid.SampledFrom([]uint32{1, 0xfffffff0}).Draw(t, "sequence"), flags: flagACK, window: 500,
				options: rapid.SampledFrom([][]byte{nil, {1, 1, 8, 10, 0, 0, 0, 1, 0, 0, 0, 2}}).Draw(t, "options"),
			}
		}
		each := rapid.SampledFrom([]int{1, 2, 7, 100, 1360}).Draw(t, "each")
		var came [][]byte
		for range rapid.IntRange(1, 100).Draw(t, "packets") {
			f := &flows[rapid.IntRange(0, 2).Draw(t, "flow")]
			w := *f
			n := each
			switch rapid.IntRange(0, 120).Draw(t, "odd") {
			case 0:
				n = rapid.IntRange(0, 2*each).Draw(t, "length")
			case 1:
				w.flags |= flagPSH
			case 2:
				w.flags = rapid.Byte().Draw(t, "flags")
			case 3:
				w.ident += 2
			case 4:
				w.tos = rapid.SampledFrom([]byte{1, 2, 3, 0xb8}).Draw(t, "TOS")
			case 5:
				w.ttl--
			case 6:
				w.urgent = 5
			case 7:
				w.window++
			case 8:
				w.sequence += uint32(rapid.IntRange(-3000, 3000).Draw(t, "elsewhere"))
			case 9:
				w.options = []byte{1, 1, 8, 10, 0, 0, 0, 9, 0, 0, 0, 2}
			case 10:
				w.ipOptions = []byte{1, 1, 1, 0}
			case 11:
				w.badly = true
			case 12:
				w.noChecksum = true
			case 13:
				w.extension = true
			case 14:
				w.fragment = 0x20
			case 15:
				n, w.flags = 0, flagACK
			}
			for k := range n {
				w.payload = append(w.payload, byte(k*7+len(came)))
			}
			if rapid.IntRange(0, 20).Draw(t, "such that its checksum is zero") == 0 && n > 1 {
				w.payload[n-n%2-2], w.payload[n-n%2-1] = 0, 0
				b := w.octets()
				at := len(b) - n - map[bool]int{true: 2, false: 4 + len(w.options)}[w.udp]
				copy(w.payload[n-n%2-2:], b[at:at+2])
				w.odd = rapid.Bool().Draw(t, "the other zero")
			}
			b := w.octets()
			if rapid.IntRange(0, 60).Draw(t, "cut short") == 0 {
				b = b[:rapid.IntRange(1, len(b)).Draw(t, "to")]
			}
			came = append(came, b)
			f.ident++
			f.sequence += uint32(n)
		}
		want, got := map[string][][]byte{}, map[string][][]byte{}
		for _, b := range came {
			want[flowOf(b)] = append(want[flowOf(b)], slices.Clone(b))
		}
		j := Joiner{WithoutUDP: rapid.Bool().Draw(t, "without UDP")}
		j.Join(slices.Values(came), func(u *Unit) {
			out := cut(t, u)
			if joined += len(out) - 1; len(out) == 1 {
				alone++
			}
			require.False(t, len(out) > 1 && j.WithoutUDP && u.Header.kind == kindUDP)
			for _, b := range out {
				got[flowOf(b)] = append(got[flowOf(b)], b)
			}
		})
		require.Equal(t, len(want), len(got))
		for _, k := range slices.Sorted(maps.Keys(want)) {
			require.Equal(t, want[k], got[k], "flow %s", k)
		}
	})
	t.Logf("%d were joined to others, %d went alone", joined, alone)
	require.Greater(t, joined, alone/4)
}

// flowOf names the flow that a packet is of, by addresses and by ports where it is whole.
func flowOf(b []byte) string {
	i, err := packet.Parse(b)
	if err != nil {
		return "none"
	}
	return fmt.Sprint(i.Src, i.Dst, i.SrcPort, i.DstPort, i.Proto)
}

// Packets of one flow that follow each other become one.
func TestJoined(t *testing.T) {
	for _, c := range []struct {
		name  string
		w     written
		units int
	}{
		{"TCP", written{flags: flagACK, ttl: 64}, 1},
		{"TCP by IPv6", written{flags: flagACK, ttl: 64, v6: true}, 1},
		{"UDP", written{udp: true}, 1},
		{"UDP by IPv6", written{udp: true, v6: true}, 1},
		{"UDP without checksum", written{udp: true, noChecksum: true}, 40},
		{"wrong checksum", written{flags: flagACK, badly: true}, 40},
		{"not the first part", written{flags: flagACK, fragment: 0x20}, 40},
	} {
		var came [][]byte
		for range 40 {
			c.w.payload = []byte("forty octets of payload in each of these.")
			came = append(came, c.w.octets())
			c.w.ident++
			c.w.sequence += uint32(len(c.w.payload))
		}
		n := 0
		var j Joiner
		j.Join(slices.Values(came), func(u *Unit) { n++; cut(t, u) })
		require.Equal(t, c.units, n, c.name)
	}
}

// What a device says of a packet may contradict it: then nothing is made of it.
func FuzzShape(f *testing.F) {
	f.Add(written{flags: flagACK, payload: make([]byte, 100)}.octets(), 40, []byte{1, 1, 40, 0, 40, 0, 20, 0, 16, 0})
	f.Add(written{udp: true, v6: true, extension: true, payload: make([]byte, 100)}.octets(), 40, []byte{1, 5, 0, 0, 40, 0, 48, 0, 6, 0})
	f.Fuzz(func(t *testing.T, b []byte, each int, head []byte) {
		if len(head) >= HeaderLen {
			if n, err := ReadHeader(head).Finish(slices.Clone(b)); err == nil && n > 0 {
				each = n
			}
		}
		s, err := ShapeOf(b, each)
		if err != nil {
			return
		}
		total := 0
		for k := range s.Count() {
			one := make([]byte, s.Len(k))
			s.Put(k, one)
			i, err := packet.Parse(one)
			require.NoError(t, err)
			require.Equal(t, i.Size, len(one))
			total += len(one) - s.head
		}
		require.Equal(t, len(b)-s.head, total)
	})
}
