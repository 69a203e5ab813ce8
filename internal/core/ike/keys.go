package ike

import (
	"encoding/binary"
	"errors"
	"slices"

	"yellowlantern/internal/core/esp"
)

const nonceLen = 32

// keys is the keying material of an IKE SA (RFC 7296 §2.14; SK_ai and SK_ar are empty with an encryption that has its own integrity,
// RFC 5282 §7).
type keys struct {
	suite                     Suite
	d, ai, ar, ei, er, pi, pr []byte
	sealI, sealR              *esp.Messages
	// intAuth is what AUTH covers of an additional key exchange; nil: there was none.
	intAuth []byte
}

func deriveKeys(s Suite, seed, ni, nr []byte, spiI, spiR uint64) *keys {
	b := append(append([]byte{}, ni...), nr...)
	b = binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint64(b, spiI), spiR)
	n, a, e := s.prf.size(), s.encr.IntegrityLen(), s.encr.EncryptionLen()
	stream := s.prf.plus(seed, b, 3*n+2*a+2*e)
	take := func(n int) []byte {
		out := stream[:n:n]
		stream = stream[n:]
		return out
	}
	k := &keys{suite: s}
	k.d, k.ai, k.ar, k.ei, k.er, k.pi, k.pr = take(n), take(a), take(a), take(e), take(e), take(n), take(n)
	k.sealI, k.sealR = mustProtect(s.encr, k.ei, k.ai), mustProtect(s.encr, k.er, k.ar)
	return k
}

func mustProtect(a esp.Algorithm, encr, integ []byte) *esp.Messages {
	m, err := esp.NewMessages(a, encr, integ)
	if err != nil {
		panic(err) // the keys were cut to the algorithm's lengths
	}
	return m
}

// rest says that messages are few from now on.
func (k *keys) rest() {
	k.sealI.Rest()
	k.sealR.Rest()
}

// side protects one direction.
func (k *keys) side(initiator bool) *esp.Messages {
	if initiator {
		return k.sealI
	}
	return k.sealR
}

// child derives the keys of a Child SA, one for each direction (RFC 7296 §2.17), with the secret of an additional key exchange where there
// was one (RFC 9370 §2.2.4).
func (k *keys) child(a esp.Algorithm, shared, ni, nr, further []byte) (fromInitiator, fromResponder []byte) {
	seed := slices.Concat(shared, ni, nr, further)
	m := k.suite.prf.plus(k.d, seed, 2*a.KeyLen())
	return m[:a.KeyLen()], m[a.KeyLen():]
}

// renewed derives the keys of the IKE SA that takes this one's place (RFC 7296 §2.18): the seed by the PRF of the older one, with the
// secret of an additional key exchange where there was one (RFC 9370 §2.2.4).
func (k *keys) renewed(s Suite, shared, ni, nr, further []byte, spiI, spiR uint64) *keys {
	return deriveKeys(s, k.suite.prf.sum(k.d, shared, ni, nr, further), ni, nr, spiI, spiR)
}

// firstKeys derives the keys of a new IKE SA (RFC 7296 §2.14).
func firstKeys(s Suite, shared, ni, nr []byte, spiI, spiR uint64) *keys {
	return deriveKeys(s, s.prf.sum(append(append([]byte{}, ni...), nr...), shared), ni, nr, spiI, spiR)
}

// sealChain writes an encrypted message of a chain of payloads that begins with the given kind (RFC 7296 §3.14, RFC 5282 §5). The counter
// never repeats under a key, for each side counts its own messages.
func (k *keys) sealChain(h header, first payloadType, chain []byte, fromInitiator bool, counter uint64) []byte {
	protect := k.side(fromInitiator)
	h.first = plSK
	skLen := 4 + protect.Len(len(chain))
	out := marshalHeader(h, headerLen+skLen)
	out = append(out, byte(first), 0, byte(skLen>>8), byte(skLen))
	return protect.Seal(out, chain, counter)
}

var errSealed = errors.New("ike: message does not decrypt")

// open decrypts a message whose last payload is an encrypted one, and gives it with the payloads inside. With errSealed nobody knows who
// sent it, and nothing may come of it; errMalformed is about a message that the peer did send. parts is that parts of messages were agreed
// on: otherwise they are ignored (RFC 7383 §2.3).
func (k *keys) open(m *message, fromInitiator, parts bool) (*message, error) {
	if n := len(m.payloads); n > 0 && m.payloads[n-1].kind == plSKF && parts {
		return k.openPart(m, fromInitiator)
	}
	if len(m.payloads) == 0 || m.payloads[len(m.payloads)-1].kind != plSK {
		return nil, errSealed
	}
	body := m.payloads[len(m.payloads)-1].body
	plain, err := k.side(fromInitiator).Open(m.raw[:len(m.raw)-len(body)], body)
	switch {
	case errors.Is(err, esp.ErrPadding):
		return nil, errMalformed
	case err != nil:
		return nil, errSealed // nothing is known of who sent it
	}
	inner := &message{header: m.header, raw: m.raw}
	first := payloadType(m.raw[len(m.raw)-len(body)-4])
	inner.chain, inner.chainFirst = plain, first
	inner.payloads, err = parsePayloads(first, plain)
	return inner, err
}
