package packet

import (
	"encoding/binary"
	"math/bits"
)

// Checksum is the internet checksum (RFC 1071) of data, with a sum begun before.
func Checksum(data []byte, begun uint32) uint16 { return ^Fold(begun + uint32(Sum(data))) }

// Fold makes a sum of 16-bit words one word, as ones' complement has it.
func Fold(s uint32) uint16 {
	s = s&0xffff + s>>16
	return uint16(s&0xffff + s>>16)
}

// Sum is the ones' complement sum of data as 16-bit words, an odd last octet with a zero behind it. It adds up words of 64 bits, which
// comes to the same (RFC 1071 §2), in the order of octets that the machine reads fastest.
func Sum(data []byte) uint16 {
	var s, carry uint64
	for len(data) >= 64 {
		d := data[:64:64]
		s, carry = bits.Add64(s, binary.LittleEndian.Uint64(d), carry)
		s, carry = bits.Add64(s, binary.LittleEndian.Uint64(d[8:]), carry)
		s, carry = bits.Add64(s, binary.LittleEndian.Uint64(d[16:]), carry)
		s, carry = bits.Add64(s, binary.LittleEndian.Uint64(d[24:]), carry)
		s, carry = bits.Add64(s, binary.LittleEndian.Uint64(d[32:]), carry)
		s, carry = bits.Add64(s, binary.LittleEndian.Uint64(d[40:]), carry)
		s, carry = bits.Add64(s, binary.LittleEndian.Uint64(d[48:]), carry)
		s, carry = bits.Add64(s, binary.LittleEndian.Uint64(d[56:]), carry)
		data = data[64:]
	}
	for ; len(data) >= 8; data = data[8:] {
		s, carry = bits.Add64(s, binary.LittleEndian.Uint64(data), carry)
	}
	var last uint64
	for i, b := range data {
		last |= uint64(b) << (8 * i)
	}
	s, carry = bits.Add64(s, last, carry)
	s, carry = bits.Add64(s, 0, carry)
	s += carry
	s = s>>32 + s&0xffffffff
	s = s>>32 + s&0xffffffff
	s = s>>16 + s&0xffff
	return bits.ReverseBytes16(uint16(s>>16 + s&0xffff))
}

// PseudoSum is the sum of what a transport checksum covers beside the transport's own octets: addresses, protocol, and their length (RFC
// 9293 §3.1, RFC 8200 §8.1).
func PseudoSum(b []byte, proto uint8, length int) uint32 {
	addresses := b[12:20]
	if b[0]>>4 == 6 {
		addresses = b[8:40]
	}
	return uint32(Sum(addresses)) + uint32(proto) + uint32(length)&0xffff + uint32(length)>>16
}
