package judge

import (
	"encoding/binary"
	"slices"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/core/packet"
)

// partHead is what the parts of a packet begin with, and how much of the packet's own header it takes the place of.
func partHead(b []byte) (head []byte, own int) {
	if b[0]>>4 == 4 {
		return slices.Clone(b[:20]), 20
	}
	head = append(slices.Clone(b[:40]), b[6], 0, 0, 0)
	head[6] = 44
	return binary.BigEndian.AppendUint32(head, mark), 40
}

// split cuts a packet into parts by the letter of RFC 791 and RFC 8200.
func split(b []byte, room int) (out [][]byte) {
	head, own := partHead(b)
	for at := 0; at < len(b)-own; at += room {
		end := min(at+room, len(b)-own)
		more := uint16(0)
		if end < len(b)-own {
			more = 1
		}
		x := append(slices.Clone(head), b[own+at:own+end]...)
		if own == 20 {
			binary.BigEndian.PutUint16(x[2:], uint16(len(x)))
			binary.BigEndian.PutUint16(x[6:], more<<13|uint16(at/8))
			x[10], x[11] = 0, 0
			binary.BigEndian.PutUint16(x[10:], packet.Checksum(x[:20], 0))
		} else {
			binary.BigEndian.PutUint16(x[4:], uint16(len(x)-40))
			binary.BigEndian.PutUint16(x[42:], uint16(at)|more)
		}
		out = append(out, x)
	}
	return out
}

// inParts sends a packet as it comes: whole, or in parts, the last first and one of them twice. It gives what became of the last one, or of
// the first that did not have to wait for the others.
func inParts(k probePacket, b []byte, send func([]byte) forward.Result) (r forward.Result) {
	if !k.fragment {
		return send(slices.Clone(b))
	}
	parts := split(b, map[bool]int{true: 40, false: 1232}[len(b) < 1300])
	slices.Reverse(parts)
	parts = slices.Insert(parts, 1, parts[0])
	return oneByOne(parts, send)
}

// oneByOne sends parts until something becomes of one.
func oneByOne(parts [][]byte, send func([]byte) forward.Result) (r forward.Result) {
	for _, x := range parts {
		if r = send(slices.Clone(x)); r.Station != "" || r.Packet != nil {
			return r
		}
	}
	return r
}

// comesWhole holds what goes out of a packet to what the link carries, and to the packet that it is of.
func comesWhole(t *rapid.T, r forward.Result, most int) {
	parts := r.Parts(r.Packet)
	head, own := partHead(r.Packet)
	if len(parts) == 1 {
		require.Equal(t, r.Packet, parts[0])
		require.LessOrEqual(t, len(parts[0]), most)
		return
	}
	var payload []byte
	for n, x := range parts {
		require.LessOrEqual(t, len(x), most)
		at, more := int(binary.BigEndian.Uint16(x[6:])&0x1fff)*8, x[6]&0x20 != 0
		if own == 40 {
			at, more = int(binary.BigEndian.Uint16(x[42:])&^7), x[43]&1 != 0
			require.Equal(t, len(x)-40, int(binary.BigEndian.Uint16(x[4:])))
			require.Equal(t, []byte{44, r.Packet[6]}, []byte{x[6], x[40]})
		} else {
			require.Zero(t, packet.Checksum(x[:20], 0))
			require.Equal(t, len(x), int(binary.BigEndian.Uint16(x[2:])))
		}
		require.Equal(t, len(payload), at)
		require.Equal(t, n < len(parts)-1, more)
		payload = append(payload, x[len(head):]...)
	}
	require.Equal(t, r.Packet[own:], payload)
}

// join puts a packet together of all that came at a link of it; nil where something is missing.
func join(parts [][]byte) []byte {
	if len(parts) == 0 {
		return nil
	}
	slices.SortFunc(parts, func(a, b []byte) int { return place(a) - place(b) })
	first := parts[0]
	if first[0]>>4 == 4 && first[6]&0x3f == 0 && first[7] == 0 || first[0]>>4 == 6 && first[6] != 44 {
		return first
	}
	if first[0]>>4 == 4 {
		b := slices.Clone(first[:20])
		for _, x := range parts {
			b = append(b, x[20:]...)
		}
		binary.BigEndian.PutUint16(b[2:], uint16(len(b)))
		copy(b[6:], []byte{0, 0})
		copy(b[10:], []byte{0, 0})
		binary.BigEndian.PutUint16(b[10:], packet.Checksum(b[:20], 0))
		return b
	}
	b := slices.Clone(first[:40])
	for _, x := range parts {
		b = append(b, x[48:]...)
	}
	b[6] = first[40]
	binary.BigEndian.PutUint16(b[4:], uint16(len(b)-40))
	return b
}

// place is where a part stands.
func place(b []byte) int {
	if b[0]>>4 == 4 {
		return int(binary.BigEndian.Uint16(b[6:])&0x1fff) * 8
	}
	if b[6] != 44 {
		return 0
	}
	return int(binary.BigEndian.Uint16(b[42:]) &^ 7)
}
