package ike

// Authentication methods (RFC 7296 §3.8, RFC 4754, RFC 7427, RFC 8420).
const (
	authRSA       = 1
	authSharedKey = 2
	authECDSA256  = 9
	authECDSA384  = 10
	authECDSA521  = 11
	authSignature = 14
)

// signedOctets is what AUTH covers (RFC 7296 §2.15): the first message, the other side's nonce, prf(SK_p, ID body), and the additional key
// exchange where there was one (RFC 9242 §3.3.2).
func (k *keys) signedOctets(first, otherNonce, skP, idBody []byte) []byte {
	out := append(append([]byte{}, first...), otherNonce...)
	return append(append(out, k.suite.prf.sum(skP, idBody)...), k.intAuth...)
}

// keyAuth is AUTH by a shared key or by the key that EAP left behind (RFC 7296 §2.15, §2.16).
func (k *keys) keyAuth(key, octets []byte) []byte {
	return k.suite.prf.sum(k.suite.prf.sum(key, []byte("Key Pad for IKEv2")), octets)
}

const authHeader = 4 // octets of an AUTH payload before its data

func authPayload(method uint8, data []byte) payload {
	return payload{kind: plAuth, body: append([]byte{method, 0, 0, 0}, data...)}
}

func parseAuth(body []byte) (method uint8, data []byte, err error) {
	if len(body) < 5 {
		return 0, nil, errMalformed
	}
	return body[0], body[authHeader:], nil
}
