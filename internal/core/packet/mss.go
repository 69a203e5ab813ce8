package packet

import (
	"encoding/binary"

	"yellowlantern/internal/core/netset"
)

const (
	optionEnd   = 0 // RFC 9293 §3.2
	optionNop   = 1
	optionMSS   = 2
	mssLen      = 4
	tcpFixed    = 20
	headerIPv4  = 20
	headerIPv6  = 40
	smallestMSS = 88 // less would be of no use to anybody
)

// ClampMSS lowers the maximum segment size that a TCP SYN announces so that segments fit links of the given MTU (octets),
// and mends the checksum. Whatever is not a SYN with the option, or announces less already, stays as it is: without the option a host
// assumes 536 octets (RFC 9293 §3.7.1).
func ClampMSS(b []byte, info Info, mtu int) {
	t := info.Transport
	if info.Proto != netset.TCP || info.Fragment || info.Flags&SYN == 0 || len(b) < t+tcpFixed {
		return
	}
	most := mtu - headerIPv4 - tcpFixed
	if info.Src.Is6() {
		most = mtu - headerIPv6 - tcpFixed
	}
	end := t + int(b[t+12]>>4)*4
	if most < smallestMSS || end > len(b) {
		return
	}
	for at := t + tcpFixed; at < end && b[at] != optionEnd; {
		if b[at] == optionNop {
			at++
			continue
		}
		if at+1 >= end || b[at+1] < 2 || at+int(b[at+1]) > end {
			return
		}
		if b[at] == optionMSS && b[at+1] == mssLen {
			if old := binary.BigEndian.Uint16(b[at+2:]); int(old) > most {
				setMSS(b, t, at+2, old, uint16(most))
			}
			return
		}
		at += int(b[at+1])
	}
}

// setMSS writes the value, which may stand at an odd offset, and updates the checksum by the difference (RFC 1624).
func setMSS(b []byte, t, at int, old, mss uint16) {
	binary.BigEndian.PutUint16(b[at:], mss)
	if (at-t)%2 == 1 { // the sum adds up pairs from the header's beginning: the octets count the other way round
		old, mss = old<<8|old>>8, mss<<8|mss>>8
	}
	sum := uint32(^binary.BigEndian.Uint16(b[t+16:])) + uint32(^old) + uint32(mss)
	for sum>>16 != 0 {
		sum = sum&0xffff + sum>>16
	}
	binary.BigEndian.PutUint16(b[t+16:], ^uint16(sum))
}
