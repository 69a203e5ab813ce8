package mirror

import (
	"encoding/binary"
	"errors"
	"net"
	"net/netip"
	"syscall"

	"yellowlantern/internal/core/fold"
)

// STUN's messages, as far as a binding needs them (RFC 8489 §5, §14.2).
const (
	stunHeader     = 20
	bindingRequest = 0x0001
	bindingSuccess = 0x0101
	stunCookie     = 0x2112a442
	xorMapped      = 0x0020
)

// stun answers binding requests until the socket is closed. An answer is 12 to 24 octets longer than the least question: nobody gains by
// asking in another's name.
func stun(c *net.UDPConn) {
	b := make([]byte, 1500)
	for {
		n, from, err := c.ReadFromUDPAddrPort(b)
		if err != nil {
			if errors.Is(err, net.ErrClosed) {
				return
			}
			continue
		}
		if answer := bound(b[:n], from); answer != nil {
			_, _ = c.WriteToUDPAddrPort(answer, from)
		}
	}
}

// bound answers a binding request with the address that it came from; nil: it is none.
func bound(b []byte, from netip.AddrPort) []byte {
	if len(b) < stunHeader || binary.BigEndian.Uint16(b) != bindingRequest || binary.BigEndian.Uint32(b[4:]) != stunCookie ||
		int(binary.BigEndian.Uint16(b[2:])) != len(b)-stunHeader || len(b)%4 != 0 {
		return nil
	}
	at := fold.Addr(from.Addr())
	family, addr := byte(1), at.AsSlice()
	if at.Is6() {
		family = 2
	}
	for i := range addr { // with the cookie and the transaction's name
		addr[i] ^= b[4+i]
	}
	out := binary.BigEndian.AppendUint16(nil, bindingSuccess)
	out = binary.BigEndian.AppendUint16(out, uint16(8+len(addr)))
	out = append(out, b[4:stunHeader]...)
	out = binary.BigEndian.AppendUint16(out, xorMapped)
	out = binary.BigEndian.AppendUint16(out, uint16(4+len(addr)))
	out = append(out, 0, family)
	out = binary.BigEndian.AppendUint16(out, from.Port()^uint16(stunCookie>>16))
	return append(out, addr...)
}

// isRefused tells whether somebody said that nobody listens there.
func isRefused(err error) bool { return errors.Is(err, syscall.ECONNREFUSED) }
