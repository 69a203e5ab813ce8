package ike

import "slices"

// What a message must be, once it is known to come from the peer, or where it is the first one and there is nothing to know.

// standsOnce are the payloads of which a message has one at most (RFC 7296 §1.2, §1.3).
var standsOnce = []payloadType{plSA, plKE, plIDi, plIDr, plAuth, plNonce, plTSi, plTSr, plCP, plEAP}

// doubled tells whether a payload that may stand once stands there twice.
func (m *message) doubled() bool {
	var seen [1 << 8]bool
	for _, p := range m.payloads {
		if seen[p.kind] && slices.Contains(standsOnce, p.kind) {
			return true
		}
		seen[p.kind] = true
	}
	return false
}

// critical is the first payload of an unknown type whose sender does not want it to be skipped (RFC 7296 §2.5).
func (m *message) critical() (payloadType, bool) {
	for _, p := range m.payloads {
		if p.critical && (p.kind < plSA || p.kind > plEAP) {
			return p.kind, true
		}
	}
	return 0, false
}

// goodNonce tells whether a nonce has 16 to 256 octets, and at least half of the PRF's key (RFC 7296 §2.10, §3.9).
func goodNonce(nonce []byte, prf prfKind) bool {
	return len(nonce) >= max(16, prf.size()/2) && len(nonce) <= 256
}

func unsupported(kind payloadType) payload {
	return notify{kind: nUnsupportedCritical, data: []byte{byte(kind)}}.payload()
}

// versionAnswer answers a request of a newer major version, unprotected, for there is nothing to protect it with (RFC 7296 §2.5). Nothing
// else comes of such a request. ok is false where the datagram is none.
func versionAnswer(data []byte) (answer []byte, ok bool) {
	if len(data) < headerLen || data[17]>>4 <= version>>4 || data[19]&flagResponse != 0 {
		return nil, false
	}
	n := notify{kind: nInvalidMajorVersion}.payload()
	first, body := marshalPayloads([]payload{n})
	answer = append([]byte{}, data[:headerLen]...)
	answer[16], answer[17], answer[19] = byte(first), version, flagResponse
	answer = append(answer, body...)
	copy(answer[24:], []byte{0, 0, 0, byte(len(answer))})
	return answer, true
}
