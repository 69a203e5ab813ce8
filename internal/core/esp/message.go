package esp

import "encoding/binary"

// Messages protects IKE messages of one direction by an algorithm (RFC 7296 §3.14, RFC 5282). Messages are few, and SAs many: a cipher that
// protects integrity itself is made of its key each time, which takes less than a microsecond, for it is twenty times as large.
type Messages struct {
	alg     Algorithm
	key     []byte // of such a cipher
	chained *chained
}

// NewMessages takes keying material of the encryption and of the integrity.
func NewMessages(a Algorithm, encr, integ []byte) (*Messages, error) {
	if !a.whole() || len(encr) != a.EncryptionLen() || len(integ) != a.IntegrityLen() {
		return nil, errKeyLen
	}
	m := &Messages{alg: a}
	var err error
	if a.Encryption.Own() {
		m.key = append([]byte{}, encr...)
		_, _, err = a.aead(encr)
	} else {
		m.chained, err = newChained(a, append(append([]byte{}, encr...), integ...))
	}
	return m, err
}

// padding is how many octets of padding a chain of payloads gets, its pad length not counted.
func (m *Messages) padding(chain int) int {
	if m.chained == nil {
		return 0
	}
	return (m.alg.Block() - (chain+1)%m.alg.Block()) % m.alg.Block()
}

// Len is how many octets a chain of payloads has once it is sealed.
func (m *Messages) Len(chain int) int {
	return m.alg.IVLen() + chain + m.padding(chain) + 1 + m.alg.ICVLen()
}

// Room is the longest chain of payloads that has at most so many octets once it is sealed; negative: none has.
func (m *Messages) Room(sealed int) int {
	n := sealed - m.alg.IVLen() - m.alg.ICVLen()
	return n - n%max(1, m.step()) - 1
}

func (m *Messages) step() int {
	if m.chained == nil {
		return 1
	}
	return m.alg.Block()
}

// Seal appends a sealed chain to a message's head, which it proves too. The counter must never come again under a key.
func (m *Messages) Seal(head, chain []byte, counter uint64) []byte {
	pad := m.padding(len(chain))
	plain := append(append(make([]byte, 0, len(chain)+pad+1), chain...), make([]byte, pad+1)...)
	plain[len(plain)-1] = byte(pad)
	if m.chained == nil {
		aead, salt, err := m.alg.aead(m.key)
		if err != nil { // it was made before
			panic(err)
		}
		iv := binary.BigEndian.AppendUint64(nil, counter)
		nonce := append(append([]byte{}, salt[:]...), iv...)
		aad := head[:len(head):len(head)]
		return aead.Seal(append(aad, iv...), nonce, plain, aad)
	}
	iv, icv := make([]byte, m.alg.IVLen()), make([]byte, m.alg.ICVLen())
	m.chained.seal(head, iv, plain, icv, counter)
	return append(append(append(head[:len(head):len(head)], iv...), plain...), icv...)
}

// Open gives the chain of a sealed body, without its padding. ErrAuth: nobody knows who sent it; ErrPadding: it is authentic, and
// malformed.
func (m *Messages) Open(head, body []byte) ([]byte, error) {
	n := m.alg.IVLen()
	if len(body) < n+m.alg.ICVLen() {
		return nil, ErrAuth
	}
	var plain []byte
	if m.chained == nil {
		aead, salt, err := m.alg.aead(m.key)
		if err != nil {
			return nil, ErrAuth
		}
		nonce := append(append([]byte{}, salt[:]...), body[:n]...)
		if plain, err = aead.Open(nil, nonce, body[n:], head); err != nil {
			return nil, ErrAuth
		}
	} else {
		end := len(body) - m.alg.ICVLen()
		plain = append([]byte{}, body[n:end]...)
		if !m.chained.open(head, body[:n], plain, body[end:], 0) {
			return nil, ErrAuth
		}
	}
	if len(plain) == 0 || int(plain[len(plain)-1])+1 > len(plain) {
		return nil, ErrPadding
	}
	return plain[:len(plain)-1-int(plain[len(plain)-1])], nil
}
