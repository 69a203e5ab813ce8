package ikev2

import (
	"bytes"
	"crypto/rand"
	"encoding/binary"
	"net/netip"
	"time"

	"yellowlantern/internal/core/algorithm"
	"yellowlantern/internal/core/ike"
)

// Knock is the first message of a login that goes no further, by which it is seen whether a gateway is reached: over UDP as it stands
// behind the marker of port 4500 where marked (RFC 3948 §2.2), over TCP with what begins there (RFC 9329 §3). answered tells whether what
// came back, likewise, is an answer to it.
func Knock(marked, tcp bool) (message []byte, answered func([]byte) bool, err error) {
	nowhere := netip.AddrPortFrom(netip.IPv4Unspecified(), 0)
	i, err := ike.NewInitiator(ike.Caller{
		Algorithms: ike.Level(algorithm.Broad), Rand: rand.Reader, Now: time.Now, Local: nowhere, Remote: nowhere, TCP: tcp,
	})
	if err != nil {
		return nil, nil, err
	}
	var first []byte
	for _, o := range i.Start(time.Now()) {
		if s, ok := o.(ike.Send); ok {
			first = s.Data
		}
	}
	const spiLen = 8
	spi := bytes.Clone(first[:spiLen])
	if marked || tcp {
		message = append(message, make([]byte, markerLen)...)
	}
	message = append(message, first...)
	if tcp {
		framed := binary.BigEndian.AppendUint16([]byte(streamPrefix), uint16(len(message)+lengthLen))
		message = append(framed, message...)
	}
	skip := 0
	if marked {
		skip = markerLen
	}
	if tcp {
		skip = lengthLen + markerLen
	}
	return message, func(b []byte) bool { return len(b) >= skip+spiLen && bytes.Equal(b[skip:skip+spiLen], spi) }, nil
}
