package esp

import (
	"crypto/cipher"
	"encoding/binary"
	"slices"
)

// Messages protects IKE messages of one direction by an algorithm (RFC 7296 §3.14, RFC 5282). It is for one goroutine at a time.
type Messages struct {
	alg     Algorithm
	key     []byte   // of a cipher that protects integrity itself
	whole   *whole   // that cipher; nil: it is made for each message
	chained *chained // in place of key
}

// whole is a cipher that protects integrity itself.
type whole struct {
	cipher.AEAD
	salt [saltLen]byte
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
		m.whole, err = m.make()
	} else {
		m.chained, err = newChained(a, append(append([]byte{}, encr...), integ...))
	}
	return m, err
}

func (m *Messages) make() (w *whole, err error) {
	w = &whole{}
	w.AEAD, w.salt, err = m.alg.aead(m.key)
	return w, err
}

// Rest says that messages are few from now on: a cipher that protects integrity itself is twenty times as large as its key, of which it is
// made within a microsecond, so only the key is kept.
func (m *Messages) Rest() { m.whole = nil }

// cipher is the one that protects integrity itself.
func (m *Messages) cipher() *whole {
	if m.whole != nil {
		return m.whole
	}
	w, err := m.make()
	if err != nil {
		panic(err) // it was made before
	}
	return w
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

// Seal gives a message of a head and a sealed chain, which proves the head too. The counter must never come again under a key.
func (m *Messages) Seal(head, chain []byte, counter uint64) []byte {
	pad := m.padding(len(chain))
	out := make([]byte, len(head)+m.Len(len(chain)))
	begin := copy(out, head) + m.alg.IVLen()
	iv, plain := out[len(head):begin], out[begin:begin+len(chain)+pad+1]
	copy(plain, chain)
	plain[len(plain)-1] = byte(pad)
	if m.chained != nil {
		m.chained.seal(head, iv, plain, out[begin+len(plain):], counter)
		return out
	}
	by := m.cipher()
	binary.BigEndian.PutUint64(iv, counter)
	by.Seal(plain[:0], slices.Concat(by.salt[:], iv), plain, out[:len(head)])
	return out
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
		var err error
		by := m.cipher()
		if plain, err = by.Open(nil, slices.Concat(by.salt[:], body[:n]), body[n:], head); err != nil {
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
