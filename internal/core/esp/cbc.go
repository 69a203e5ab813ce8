package esp

import (
	"crypto/cipher"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"hash"
	"sync"
)

// most are the most octets that any algorithm's IV, block and ICV have.
const (
	mostIV    = 16
	mostBlock = 16
	mostICV   = 32
	mostMAC   = 64
)

// chained is a block cipher in CBC mode with an HMAC over what is encrypted. It is safe for concurrent use.
type chained struct {
	alg   Algorithm
	block cipher.Block
	iv    cipher.Block // makes IVs of counters: nobody without its key tells the next one (NIST SP 800-38A appendix C)
	macOf func() hash.Hash
	pool  sync.Pool // of *working
}

// working is what one packet needs; it is kept, so that none allocates.
type working struct {
	encrypt, decrypt cipher.BlockMode
	mac              hash.Hash
	sum              [mostMAC]byte
	iv               [mostIV]byte
	high             [4]byte
}

type ivSetter interface{ SetIV(iv []byte) }

func newChained(a Algorithm, key []byte) (*chained, error) {
	n := a.EncryptionLen()
	encr, integ := append([]byte{}, key[:n]...), append([]byte{}, key[n:]...)
	block, err := a.blocks(encr)
	if err != nil {
		return nil, err
	}
	derive := hmac.New(sha256.New, integ)
	derive.Write([]byte("initialisation vectors"))
	derive.Write(encr)
	iv, err := a.blocks(derive.Sum(nil)[:min(n, sha256.Size)])
	if err != nil {
		return nil, err
	}
	c := &chained{alg: a, block: block, iv: iv, macOf: func() hash.Hash { return hmac.New(a.Integrity.mac().hash, integ) }}
	c.pool.New = func() any {
		zero := make([]byte, block.BlockSize())
		return &working{encrypt: cipher.NewCBCEncrypter(block, zero), decrypt: cipher.NewCBCDecrypter(block, zero), mac: c.macOf()}
	}
	return c, nil
}

// seal encrypts plain, whole blocks, in place, and proves it together with head and IV, and with ESN the upper half of the counter (RFC
// 4303 §3.3.4). The IV is written to iv, the proof to icv.
func (c *chained) seal(head, iv, plain, icv []byte, counter uint64) {
	w := c.pool.Get().(*working)
	defer c.pool.Put(w)
	clear(w.iv[:])
	binary.BigEndian.PutUint64(w.iv[:], counter)
	c.iv.Encrypt(iv, w.iv[:len(iv)])
	w.encrypt.(ivSetter).SetIV(iv)
	w.encrypt.CryptBlocks(plain, plain)
	copy(icv, c.prove(w, uint32(counter>>32), head, iv, plain))
}

// open tells whether the proof holds, and decrypts then.
func (c *chained) open(head, iv, secret, icv []byte, high uint32) bool {
	if len(secret) == 0 || len(secret)%c.block.BlockSize() != 0 {
		return false
	}
	w := c.pool.Get().(*working)
	defer c.pool.Put(w)
	if !hmac.Equal(c.prove(w, high, head, iv, secret)[:len(icv)], icv) {
		return false
	}
	w.decrypt.(ivSetter).SetIV(iv)
	w.decrypt.CryptBlocks(secret, secret)
	return true
}

func (c *chained) prove(w *working, high uint32, parts ...[]byte) []byte {
	w.mac.Reset()
	for _, p := range parts {
		w.mac.Write(p)
	}
	if c.alg.ESN {
		binary.BigEndian.PutUint32(w.high[:], high)
		w.mac.Write(w.high[:])
	}
	return w.mac.Sum(w.sum[:0])
}
