// Package esp seals and opens packets in tunnel mode with the Encapsulating Security Payload (RFC 4303), with sequence numbers of 32 or
// 64 bits, under AES-GCM with a 16-octet ICV (RFC 4106), ChaCha20-Poly1305 (RFC 7634), or a block cipher in CBC mode (RFC 3602) with an
// HMAC (RFC 4868). It works in place and does not allocate. Which association a packet belongs to, and what may be inside it, is left to
// the callers. What protects IKE messages is here as well, for it is the same algorithms.
package esp

import (
	"crypto/cipher"
	"encoding/binary"
	"errors"
	"sync"
	"sync/atomic"

	"yellowlantern/internal/core/inside"
)

const (
	headerLen = 8  // SPI, sequence number (RFC 4303 §2)
	ivLen     = 8  // of those that protect integrity themselves, RFC 4106 §3.1
	icvLen    = 16 // RFC 4106 §6
	saltLen   = 4  // RFC 4106 §4
	// Headroom is what Seal needs before the packet, and Tailroom what it needs after it, at the most.
	Headroom = headerLen + mostIV
	Tailroom = mostBlock - 1 + 2 + mostICV
	// WindowSize is how far behind the highest sequence number a packet may come (RFC 4303 §3.4.3 asks for 64 at least).
	WindowSize = 1024
)

// Next header values of what is inside (IANA protocol numbers).
const (
	nextIPv4 = 4
	nextIPv6 = 41
	nextNone = 59 // a dummy packet, RFC 4303 §2.6
)

// Reasons for which a packet is dropped.
var (
	ErrShort      = errors.New("esp: packet is too short")
	ErrReplay     = errors.New("esp: sequence number was seen or is too old")
	ErrAuth       = errors.New("esp: integrity check failed")
	ErrPadding    = errors.New("esp: padding or next header is malformed")
	ErrDummy      = errors.New("esp: dummy packet")
	ErrExhausted  = errors.New("esp: sequence numbers are used up, the association must be renewed")
	ErrTooLarge   = errors.New("esp: packet is too large")
	errKeyLen     = errors.New("esp: the keying material has the wrong length")
	errNotAPacket = errors.New("esp: neither an IPv4 nor an IPv6 packet")
)

// Sealer is the sending half of an association. It is safe for concurrent use.
type Sealer struct {
	SPI     uint32
	alg     Algorithm
	aead    cipher.AEAD
	salt    [saltLen]byte
	chained *chained // in place of aead
	seq     atomic.Uint64
	octets  atomic.Uint64
}

// Opener is the receiving half of an association. It is safe for concurrent use.
type Opener struct {
	SPI     uint32
	alg     Algorithm
	aead    cipher.AEAD
	salt    [saltLen]byte
	chained *chained
	mu      sync.Mutex
	opened  uint64
	octets  uint64
	window  window
}

// NewSealer takes the peer's SPI and keying material of the algorithm.
func NewSealer(spi uint32, alg Algorithm, key []byte) (*Sealer, error) {
	s := &Sealer{SPI: spi, alg: alg}
	var err error
	s.aead, s.salt, s.chained, err = alg.protect(key)
	return s, err
}

// NewOpener takes our SPI and keying material of the algorithm.
func NewOpener(spi uint32, alg Algorithm, key []byte) (*Opener, error) {
	o := &Opener{SPI: spi, alg: alg}
	var err error
	o.aead, o.salt, o.chained, err = alg.protect(key)
	return o, err
}

// protect makes what protects by keying material: one of both.
func (a Algorithm) protect(key []byte) (aead cipher.AEAD, salt [saltLen]byte, c *chained, err error) {
	if !a.whole() || len(key) != a.KeyLen() {
		return nil, salt, nil, errKeyLen
	}
	if a.Encryption.Own() {
		aead, salt, err = a.aead(key)
	} else {
		c, err = newChained(a, key)
	}
	return aead, salt, c, err
}

// scratch is what goes with a packet and is not sent: the nonce, and what is authenticated beside it (RFC 4106 §5).
type scratch struct {
	nonce [saltLen + ivLen]byte
	aad   [headerLen + 4]byte
}

// scratches are pooled because what is handed to an interface escapes: without it each packet would allocate.
var scratches = sync.Pool{New: func() any { return new(scratch) }}

// with fills it in for a packet of which head is SPI and the lower half of the sequence number, and gives what is authenticated: with ESN
// the upper half stands between both.
func (x *scratch) with(esn bool, salt [saltLen]byte, head, iv []byte, high uint32) (aad []byte) {
	copy(x.nonce[:], salt[:])
	copy(x.nonce[saltLen:], iv)
	if !esn {
		return head
	}
	copy(x.aad[:], head[:4])
	binary.BigEndian.PutUint32(x.aad[4:], high)
	copy(x.aad[8:], head[4:])
	return x.aad[:]
}

// Seal encrypts the IP packet buf[off:off+n] in place and gives the ESP packet as a part of buf. off must be at least
// Headroom, and Tailroom must remain behind the packet. The IV is the sequence number, which never repeats under a key.
func (s *Sealer) Seal(buf []byte, off, n int) ([]byte, error) {
	return s.SealAs(s.Take(1), buf, off, n)
}

// Take takes sequence numbers for so many packets, and gives the first. Each is for one packet, which SealAs seals.
func (s *Sealer) Take(n int) (first uint64) { return s.seq.Add(uint64(n)) - uint64(n) + 1 }

// Sealed is how many octets a packet of so many has once it is sealed.
func (s *Sealer) Sealed(n int) int { return s.alg.Sealed(n) }

// Inner is the longest packet that has at most so many octets once it is sealed.
func (s *Sealer) Inner(sealed int) int { return s.alg.Inner(sealed) }

// Before is how many octets of them stand before the packet.
func (s *Sealer) Before() int { return headerLen + s.alg.IVLen() }

// SealAs is Seal with a sequence number that was taken. Where only what is sealed has room, off may be as little as Before.
func (s *Sealer) SealAs(seq uint64, buf []byte, off, n int) ([]byte, error) {
	if n < 1 || off < s.Before() || off-s.Before()+s.Sealed(n) > len(buf) {
		return nil, ErrTooLarge
	}
	next := byte(nextIPv4)
	switch buf[off] >> 4 {
	case 4:
	case 6:
		next = nextIPv6
	default:
		return nil, errNotAPacket
	}
	s.octets.Add(uint64(n))
	if seq > 1<<32-1 && !s.alg.ESN {
		return nil, ErrExhausted
	}
	pad := -(n + 2) & (s.alg.Block() - 1) // RFC 4303 §2.4: the trailer ends on a 4-octet boundary, or the cipher's
	end := off + n
	copy(buf[end:], padding[:pad])
	buf[end+pad], buf[end+pad+1] = byte(pad), next
	end += pad + 2

	if s.chained != nil {
		return s.sealChained(buf, off, end, seq), nil
	}
	head := buf[off-headerLen-ivLen : off]
	binary.BigEndian.PutUint32(head, s.SPI)
	binary.BigEndian.PutUint32(head[4:], uint32(seq))
	binary.BigEndian.PutUint64(head[8:], seq)
	x := scratches.Get().(*scratch)
	aad := x.with(s.alg.ESN, s.salt, head[:headerLen], head[headerLen:], uint32(seq>>32))
	s.aead.Seal(buf[off:off], x.nonce[:], buf[off:end], aad)
	scratches.Put(x)
	return buf[off-headerLen-ivLen : end+icvLen], nil
}

func (s *Sealer) sealChained(buf []byte, off, end int, seq uint64) []byte {
	begin := off - headerLen - s.alg.IVLen()
	head := buf[begin : begin+headerLen]
	binary.BigEndian.PutUint32(head, s.SPI)
	binary.BigEndian.PutUint32(head[4:], uint32(seq))
	icv := buf[end : end+s.alg.ICVLen()]
	s.chained.seal(head, buf[begin+headerLen:off], buf[off:end], icv, seq)
	return buf[begin : end+len(icv)]
}

// Used is how many sequence numbers are used, and how many octets were protected.
func (s *Sealer) Used() Volume { return Volume{s.seq.Load(), s.octets.Load()} }

// Used is the highest sequence number that came, and how many octets did.
func (o *Opener) Used() Volume {
	o.mu.Lock()
	defer o.mu.Unlock()
	return Volume{o.window.top, o.octets}
}

// Missing is how many packets of the other side have not come, as far as their sequence numbers tell.
func (o *Opener) Missing() uint64 {
	o.mu.Lock()
	defer o.mu.Unlock()
	if top := o.window.top; top > o.opened {
		return top - o.opened
	}
	return 0
}

// SPIOf reads the SPI of an ESP packet; ok is false if it is too short for one.
func SPIOf(packet []byte) (spi uint32, ok bool) {
	if len(packet) < headerLen+ivLen+12+4 { // the shortest IV and ICV, and a trailer
		return 0, false
	}
	return binary.BigEndian.Uint32(packet), true
}

// Open decrypts an ESP packet in place and gives the IP packet as a part of it. The replay window moves only for a
// packet that proves authentic (RFC 4303 §3.4.3). newest tells whether no later one of the association came before it.
func (o *Opener) Open(packet []byte) (inner []byte, newest bool, err error) {
	p := inside.Bare(packet)
	o.mu.Lock()
	defer o.mu.Unlock()
	x := scratches.Get().(*scratch)
	newest, err = o.open(x, &p)
	scratches.Put(x)
	if err != nil {
		return nil, false, err
	}
	return p.Bytes(), newest, nil
}

// Unopened counts packets that were not opened.
type Unopened struct{ Replayed, Forged int }

// OpenAll opens packets where they stand, in their order and as Open does, with the window locked once for all of them. It gives those that
// it opened, as the first of packets, whether one of them is the newest of the association, and how many it did not open.
func (o *Opener) OpenAll(packets []inside.Packet) (opened []inside.Packet, newest bool, not Unopened) {
	o.mu.Lock()
	defer o.mu.Unlock()
	x := scratches.Get().(*scratch)
	n := 0
	for i := range packets {
		switch later, err := o.open(x, &packets[i]); err {
		case nil:
			if n < i {
				packets[n] = packets[i]
			}
			n++
			newest = newest || later
		case ErrReplay:
			not.Replayed++
		case ErrDummy: // there to be thrown away
		default:
			not.Forged++
		}
	}
	scratches.Put(x)
	return packets[:n], newest, not
}

// open opens one. o is locked.
func (o *Opener) open(x *scratch, p *inside.Packet) (newest bool, err error) {
	begin := headerLen + o.alg.IVLen()
	if p.Len < begin+o.alg.ICVLen()+4 {
		return false, ErrShort
	}
	b := p.Bytes()
	seq, ok := uint64(binary.BigEndian.Uint32(b[4:])), true
	if o.alg.ESN {
		seq, ok = o.window.whole(uint32(seq))
	}
	if !ok || !o.window.fresh(seq) {
		return false, ErrReplay
	}
	n, ok := o.plain(x, b, begin, uint32(seq>>32))
	if !ok {
		return false, ErrAuth
	}
	newest = seq > o.window.top
	o.window.mark(seq)
	o.opened++
	o.octets += uint64(n)
	p.Off += begin
	p.Len, err = unwrap(b[begin : begin+n])
	return newest, err
}

// plain authenticates a packet and decrypts it in place, from where its header ends: to n octets. high is the half of its sequence number
// that was not sent.
func (o *Opener) plain(x *scratch, packet []byte, begin int, high uint32) (n int, ok bool) {
	if o.chained != nil {
		end := len(packet) - o.alg.ICVLen()
		ok = o.chained.open(packet[:headerLen], packet[headerLen:begin], packet[begin:end], packet[end:], high)
		return end - begin, ok
	}
	aad := x.with(o.alg.ESN, o.salt, packet[:headerLen], packet[headerLen:begin], high)
	body := packet[begin:]
	plain, err := o.aead.Open(body[:0], x.nonce[:], body, aad)
	return len(plain), err == nil
}

// padding is as much as there can be (RFC 4303 §2.4).
var padding = func() (p [255]byte) {
	for i := range p {
		p[i] = byte(i + 1)
	}
	return p
}()

// unwrap takes off padding and trailer, so that n octets are left, and checks that what is inside is what it says.
func unwrap(plain []byte) (n int, err error) {
	n = len(plain)
	if n < 2 {
		return 0, ErrPadding
	}
	pad, next := int(plain[n-2]), plain[n-1]
	if pad+2 > n {
		return 0, ErrPadding
	}
	n -= 2 + pad
	if string(plain[n:n+pad]) != string(padding[:pad]) {
		return 0, ErrPadding
	}
	switch {
	case next == nextNone:
		return 0, ErrDummy
	case n == 0, next == nextIPv4 && plain[0]>>4 != 4, next == nextIPv6 && plain[0]>>4 != 6, next != nextIPv4 && next != nextIPv6:
		return 0, ErrPadding
	}
	return n, nil
}

// window is the anti-replay window of RFC 4303 §3.4.3 as a ring of bits: bit seq mod size says whether seq was seen.
type window struct {
	top  uint64
	bits [WindowSize / 64]uint64
}

// whole is the sequence number of which only the lower half came: the one in the window, or the next one above it (RFC 4303 appendix
// A2.2). ok is false where there is none.
func (w *window) whole(low uint32) (seq uint64, ok bool) {
	high := w.top >> 32
	bottom := uint32(w.top) - WindowSize + 1 // where the window begins, which may be below a multiple of 2^32
	switch wraps := uint32(w.top) < WindowSize-1; {
	case !wraps && low < bottom:
		high++
	case wraps && low >= bottom && high == 0:
		return 0, false
	case wraps && low >= bottom:
		high--
	}
	return high<<32 | uint64(low), true
}

func (w *window) fresh(seq uint64) bool {
	switch {
	case seq == 0:
		return false
	case seq > w.top:
		return true
	case w.top-seq >= WindowSize:
		return false
	}
	return w.bits[seq/64%(WindowSize/64)]&(1<<(seq%64)) == 0
}

// mark notes a fresh sequence number as seen.
func (w *window) mark(seq uint64) {
	if seq > w.top {
		if seq-w.top >= WindowSize {
			w.bits = [WindowSize / 64]uint64{}
		} else {
			for s := w.top + 1; s != seq; s++ {
				w.bits[s/64%(WindowSize/64)] &^= 1 << (s % 64)
			}
		}
		w.top = seq
	}
	w.bits[seq/64%(WindowSize/64)] |= 1 << (seq % 64)
}
