package esp

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/des"
	"crypto/hmac"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/binary"
	"hash"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/chacha20poly1305"
	"pgregory.net/rapid"

	"yellowlantern/internal/core/inside"
)

var key = bytes.Repeat([]byte{7}, 200)

// separate are all pairs of a block cipher and an HMAC.
func separate() (out []Algorithm) {
	for _, e := range []Encryption{EncrAES256CBC, EncrAES128CBC, Encr3DES} {
		for _, i := range []Integrity{HMACSHA256, HMACSHA384, HMACSHA512, HMACSHA1} {
			out = append(out, Algorithm{Encryption: e, Integrity: i})
		}
	}
	return out
}

func pair(t require.TestingT) (*Sealer, *Opener) { return pairOf(t, AES256GCM) }

func pairOf(t require.TestingT, alg Algorithm) (*Sealer, *Opener) {
	s, err := NewSealer(0x01020304, alg, key[:alg.KeyLen()])
	require.NoError(t, err)
	o, err := NewOpener(0x01020304, alg, key[:alg.KeyLen()])
	require.NoError(t, err)
	return s, o
}

// later is a pair that has been used for a while, with ESN or without it.
func later(t *rapid.T, alg Algorithm) (*Sealer, *Opener) {
	alg.ESN = rapid.Bool().Draw(t, "ESN")
	s, o := pairOf(t, alg)
	if alg.ESN {
		used := rapid.SampledFrom([]uint64{0, 1, 1<<32 - 2, 1<<32 - 1, 1 << 32, 5<<32 + 7}).Draw(t, "used")
		s.seq.Store(used)
		o.window.top = used
	}
	return s, o
}

func seal(t require.TestingT, s *Sealer, inner []byte) []byte {
	buf := make([]byte, Headroom+len(inner)+Tailroom)
	copy(buf[Headroom:], inner)
	out, err := s.Seal(buf, Headroom, len(inner))
	require.NoError(t, err)
	return out
}

// What is sealed opens again, whatever its length; it is sealed as RFC 4106 and RFC 7634 say, derived here a second time.
func TestSealOpenAndWireFormat(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		alg := rapid.SampledFrom([]Algorithm{AES256GCM, AES128GCM, ChaCha20Poly1305}).Draw(t, "algorithm")
		s, o := later(t, alg)
		inner := rapid.SliceOfN(rapid.Byte(), 1, 1500).Draw(t, "inner")
		inner[0] = rapid.SampledFrom([]byte{0x45, 0x60}).Draw(t, "version")
		out := seal(t, s, inner)
		require.Zero(t, len(out)%4)
		require.Len(t, out, alg.Sealed(len(inner)))

		n := map[Encryption]int{EncrAES256GCM: 32, EncrAES128GCM: 16, EncrChaCha20Poly1305: 32}[alg.Encryption]
		aead, _ := chacha20poly1305.New(key[:32])
		if alg.Encryption != EncrChaCha20Poly1305 {
			block, _ := aes.NewCipher(key[:n])
			aead, _ = cipher.NewGCM(block)
		}
		nonce := append(append([]byte{}, key[n:n+4]...), out[8:16]...)
		aad := bytes.Clone(out[:8])
		if s.alg.ESN { // RFC 4106 §5: SPI, then all 64 bits
			aad = binary.BigEndian.AppendUint64(aad[:4], s.seq.Load())
		}
		plain, err := aead.Open(nil, nonce, out[16:], aad)
		require.NoError(t, err)
		require.Equal(t, uint32(0x01020304), binary.BigEndian.Uint32(out))
		require.Equal(t, uint32(s.seq.Load()), binary.BigEndian.Uint32(out[4:]))
		require.Equal(t, map[byte]byte{4: 4, 6: 41}[inner[0]>>4], plain[len(plain)-1])
		require.Equal(t, inner, plain[:len(inner)])

		changed := bytes.Clone(out)
		changed[rapid.IntRange(0, len(out)-1).Draw(t, "bit")] ^= 1
		_, _, err = o.Open(changed)
		require.Error(t, err, "any changed octet is noticed")
		got, _, err := o.Open(bytes.Clone(out))
		require.NoError(t, err, "a forged packet does not use up the number")
		require.Equal(t, inner, got)
		_, _, err = o.Open(out)
		require.ErrorIs(t, err, ErrReplay)
	})
}

// Packets that are sealed by a range of numbers, back to back with no more room than they need, are those that are sealed one by one; a
// batch of them, out of order, some twice, some forged, some cut short, is opened to what each is opened to by itself.
func TestBatches(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		alg := rapid.SampledFrom(append(separate(), AES256GCM, AES128GCM, ChaCha20Poly1305)).Draw(t, "algorithm")
		one, together := later(t, alg)
		all := together
		alone := &Opener{SPI: all.SPI, alg: all.alg, aead: all.aead, salt: all.salt, chained: all.chained, window: all.window}
		many := &Sealer{SPI: one.SPI, alg: one.alg, aead: one.aead, salt: one.salt, chained: one.chained}
		many.seq.Store(one.seq.Load())
		n := rapid.IntRange(1, 20).Draw(t, "packets")
		first := many.Take(n)
		var whole []byte
		var came [][]byte
		for i := range n {
			inner := bytes.Repeat([]byte{0x45}, rapid.IntRange(1, 200).Draw(t, "octets"))
			want := seal(t, one, inner)
			at := len(whole)
			whole = append(whole, make([]byte, many.Sealed(len(inner)))...)
			copy(whole[at+many.Before():], inner)
			got, err := many.SealAs(first+uint64(i), whole[at:len(whole):len(whole)], many.Before(), len(inner))
			require.NoError(t, err)
			require.Equal(t, want, got)
			require.Equal(t, want, whole[at:])
			for range rapid.IntRange(0, 2).Draw(t, "times") {
				b := bytes.Clone(got)
				switch rapid.IntRange(0, 5).Draw(t, "forged") {
				case 0:
					b[rapid.IntRange(0, len(b)-1).Draw(t, "bit")] ^= 1
				case 1:
					b = b[:rapid.IntRange(0, len(b)-1).Draw(t, "cut")]
				}
				came = append(came, b)
			}
		}
		came = rapid.Permutation(came).Draw(t, "order")
		batch := make([]inside.Packet, len(came))
		for i := range came {
			batch[i] = inside.Bare(bytes.Clone(came[i]))
		}
		opened, newest, not := all.OpenAll(batch)
		for _, b := range came {
			inner, later, err := alone.Open(b)
			switch err {
			case nil:
				require.Equal(t, inner, opened[0].Bytes())
				opened = opened[1:]
				require.True(t, newest || !later)
			case ErrReplay:
				not.Replayed--
			case ErrDummy:
			default:
				not.Forged--
			}
		}
		require.Empty(t, opened)
		require.Zero(t, not)
		require.Equal(t, alone.Used(), all.Used())
		require.Equal(t, alone.Missing(), all.Missing())
	})
}

// The same of block ciphers with an HMAC, as RFC 3602, RFC 2451, RFC 4868 and RFC 2404 say; no IV comes twice.
func TestSealOpenSeparate(t *testing.T) {
	ivs := map[string]bool{}
	rapid.Check(t, func(t *rapid.T) {
		alg := rapid.SampledFrom(separate()).Draw(t, "algorithm")
		s, o := later(t, alg)
		inner := rapid.SliceOfN(rapid.Byte(), 1, 1500).Draw(t, "inner")
		inner[0] = rapid.SampledFrom([]byte{0x45, 0x60}).Draw(t, "version")
		out := seal(t, s, inner)

		encrLen := map[Encryption]int{EncrAES256CBC: 32, EncrAES128CBC: 16, Encr3DES: 24}[alg.Encryption]
		block, _ := des.NewTripleDESCipher(key[:24])
		if alg.Encryption != Encr3DES {
			block, _ = aes.NewCipher(key[:encrLen])
		}
		hashes := map[Integrity]func() hash.Hash{
			HMACSHA256: sha256.New, HMACSHA384: sha512.New384, HMACSHA512: sha512.New, HMACSHA1: sha1.New,
		}
		icvs := map[Integrity]int{HMACSHA256: 16, HMACSHA384: 24, HMACSHA512: 32, HMACSHA1: 12}
		mac := hmac.New(hashes[alg.Integrity], key[encrLen:encrLen+hashes[alg.Integrity]().Size()])
		end := len(out) - icvs[alg.Integrity]
		mac.Write(out[:end])
		if s.alg.ESN { // RFC 4303 §2.2.1
			mac.Write(binary.BigEndian.AppendUint32(nil, uint32(s.seq.Load()>>32)))
		}
		require.Equal(t, mac.Sum(nil)[:len(out)-end], out[end:])
		n := block.BlockSize()
		require.Zero(t, (end-8-n)%n)
		require.Len(t, out, alg.Sealed(len(inner)))
		plain := make([]byte, end-8-n)
		cipher.NewCBCDecrypter(block, out[8:8+n]).CryptBlocks(plain, out[8+n:end])
		require.Equal(t, inner, plain[:len(inner)])
		pad := int(plain[len(plain)-2])
		require.Less(t, pad, n)
		require.Len(t, plain, len(inner)+pad+2)
		require.Equal(t, map[byte]byte{4: 4, 6: 41}[inner[0]>>4], plain[len(plain)-1])

		again := seal(t, s, inner)
		require.NotEqual(t, out[8:8+n], again[8:8+n])
		ivs[string(again[8:8+n])] = true
		changed := bytes.Clone(out)
		changed[rapid.IntRange(0, len(out)-1).Draw(t, "bit")] ^= 1
		_, _, err := o.Open(changed)
		require.Error(t, err, "any changed octet is noticed")
		_, _, err = o.Open(bytes.Clone(out[:rapid.IntRange(0, len(out)-1).Draw(t, "cut")]))
		require.Error(t, err)
		got, _, err := o.Open(bytes.Clone(out))
		require.NoError(t, err)
		require.Equal(t, inner, got)
		_, _, err = o.Open(out)
		require.ErrorIs(t, err, ErrReplay)
	})
	require.LessOrEqual(t, len(ivs), 6*len(separate()), "the second packet's IV hangs on key and number alone")
}

// IKE messages of any length open again, have the length that was told before, and any changed octet is noticed.
func TestMessages(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		alg := rapid.SampledFrom(append(separate(), AES256GCM, AES128GCM, ChaCha20Poly1305)).Draw(t, "algorithm")
		m, err := NewMessages(alg, key[:alg.EncryptionLen()], key[:alg.IntegrityLen()])
		require.NoError(t, err)
		head := rapid.SliceOfN(rapid.Byte(), 32, 32).Draw(t, "head")
		chain := rapid.SliceOfN(rapid.Byte(), 0, 300).Draw(t, "chain")
		out := m.Seal(head, chain, 7)
		require.Equal(t, head, out[:32])
		require.Len(t, out, 32+m.Len(len(chain)))
		room := m.Room(len(out) - 32)
		require.GreaterOrEqual(t, room, len(chain))
		require.LessOrEqual(t, m.Len(room), len(out)-32)
		require.Greater(t, m.Len(room+1), len(out)-32)
		got, err := m.Open(out[:32], out[32:])
		require.NoError(t, err)
		require.Equal(t, chain, append([]byte{}, got...))
		out[rapid.IntRange(0, len(out)-1).Draw(t, "bit")] ^= 1
		_, err = m.Open(out[:32], out[32:])
		require.ErrorIs(t, err, ErrAuth)
	})
}

// The window agrees with a list of all that was seen.
func TestWindowAgainstList(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var w window
		seen := map[uint64]bool{}
		var top, at uint64
		if rapid.Bool().Draw(t, "far") { // where the lower half wraps
			top = rapid.Uint64Range(1<<33-WindowSize-100, 1<<33+WindowSize+100).Draw(t, "top")
			at, w.top = top, top
		}
		for range 300 {
			step := rapid.IntRange(-WindowSize-3, WindowSize+200).Draw(t, "step")
			if rapid.Bool().Draw(t, "near") {
				step %= 4
			}
			at = uint64(max(0, int(at)+step))
			if got, ok := w.whole(uint32(at)); at > 0 && (at > top || top-at < WindowSize) {
				require.True(t, ok)
				require.Equal(t, at, got, "the half that was not sent; top %d", top)
			}
			want := at > 0 && !seen[at] && (at > top || top-at < WindowSize)
			require.Equal(t, want, w.fresh(at), "seq %d, top %d", at, top)
			if want {
				w.mark(at)
				seen[at], top = true, max(top, at)
			}
		}
	})
}

func FuzzOpen(f *testing.F) {
	s, _ := pair(f)
	f.Add(seal(f, s, []byte{0x45, 1, 2, 3}))
	f.Fuzz(func(t *testing.T, b []byte) {
		_, o := pair(t)
		_, _, _ = o.Open(bytes.Clone(b))
		_, _ = unwrap(b)
	})
}

func TestSealRefuses(t *testing.T) {
	for _, alg := range []Algorithm{
		AES128GCM, {}, {Encryption: EncrAES256CBC}, {Encryption: EncrAES256GCM, Integrity: HMACSHA256}, {Integrity: HMACSHA256},
	} {
		_, err := NewSealer(1, alg, key[:min(alg.KeyLen()+1, 100)])
		require.ErrorIs(t, err, errKeyLen)
	}
	s, _ := pair(t)
	_, err := s.Seal(make([]byte, Headroom+10+17), Headroom, 10)
	require.ErrorIs(t, err, ErrTooLarge)
	_, err = s.Seal(make([]byte, 120), s.Before()-1, 10)
	require.ErrorIs(t, err, ErrTooLarge)
	_, err = s.Seal(make([]byte, 120), Headroom, 10)
	require.Error(t, err, "neither IPv4 nor IPv6")
	s.seq.Store(1<<32 - 1)
	buf := make([]byte, 120)
	buf[Headroom] = 0x45
	_, err = s.Seal(buf, Headroom, 10)
	require.ErrorIs(t, err, ErrExhausted)
}

// BenchmarkPacket compares sealing and opening a 1400-octet packet with bare AES-256-GCM over the same octets.
func BenchmarkPacket(b *testing.B) {
	const n = 1400
	buf := make([]byte, Headroom+n+Tailroom)
	buf[Headroom] = 0x45
	b.Run("bare-seal-open", func(b *testing.B) {
		block, _ := aes.NewCipher(key[:32])
		gcm, _ := cipher.NewGCM(block)
		nonce, aad := make([]byte, 12), make([]byte, 8)
		b.SetBytes(n)
		b.ReportAllocs()
		for b.Loop() {
			gcm.Seal(buf[16:16], nonce, buf[16:16+n+4], aad)
			if _, err := gcm.Open(buf[16:16], nonce, buf[16:16+n+4+16], aad); err != nil {
				b.Fatal(err)
			}
		}
	})
	for name, alg := range map[string]Algorithm{
		"esp-seal-open": AES256GCM, "esp-seal-open-cbc": {Encryption: EncrAES256CBC, Integrity: HMACSHA256}, "esp-seal-open-3des": {Encryption: Encr3DES, Integrity: HMACSHA1},
	} {
		b.Run(name, func(b *testing.B) {
			s, o := pairOf(b, alg)
			b.SetBytes(n)
			b.ReportAllocs()
			for b.Loop() {
				buf[Headroom] = 0x45
				out, err := s.Seal(buf, Headroom, n)
				if err != nil {
					b.Fatal(err)
				}
				if _, _, err := o.Open(out); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
