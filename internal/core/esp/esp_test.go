package esp

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/chacha20poly1305"
	"pgregory.net/rapid"
)

var key = bytes.Repeat([]byte{7}, 36)

func pair(t require.TestingT) (*Sealer, *Opener) { return pairOf(t, AES256GCM) }

func pairOf(t require.TestingT, alg Algorithm) (*Sealer, *Opener) {
	s, err := NewSealer(0x01020304, alg, key[:alg.KeyLen()])
	require.NoError(t, err)
	o, err := NewOpener(0x01020304, alg, key[:alg.KeyLen()])
	require.NoError(t, err)
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
		s, o := pairOf(t, alg)
		inner := rapid.SliceOfN(rapid.Byte(), 1, 1500).Draw(t, "inner")
		inner[0] = rapid.SampledFrom([]byte{0x45, 0x60}).Draw(t, "version")
		out := seal(t, s, inner)
		require.Zero(t, len(out)%4)

		n := map[Algorithm]int{AES256GCM: 32, AES128GCM: 16, ChaCha20Poly1305: 32}[alg]
		aead, _ := chacha20poly1305.New(key[:32])
		if alg != ChaCha20Poly1305 {
			block, _ := aes.NewCipher(key[:n])
			aead, _ = cipher.NewGCM(block)
		}
		nonce := append(append([]byte{}, key[n:n+4]...), out[8:16]...)
		plain, err := aead.Open(nil, nonce, out[16:], out[:8])
		require.NoError(t, err)
		require.Equal(t, uint32(0x01020304), binary.BigEndian.Uint32(out))
		require.Equal(t, uint32(1), binary.BigEndian.Uint32(out[4:]))
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

// The window agrees with a list of all that was seen.
func TestWindowAgainstList(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var w window
		seen := map[uint32]bool{}
		var top, at uint32
		for range 300 {
			step := rapid.IntRange(-WindowSize-3, WindowSize+200).Draw(t, "step")
			if rapid.Bool().Draw(t, "near") {
				step %= 4
			}
			at = uint32(max(0, int(at)+step))
			want := at > 0 && !seen[at] && (at > top || top-at < WindowSize)
			require.Equal(t, want, w.mark(at), "seq %d, top %d", at, top)
			if want {
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
	_, err := NewSealer(1, AES128GCM, key)
	require.ErrorIs(t, err, errKeyLen)
	s, _ := pair(t)
	_, err = s.Seal(make([]byte, 40), Headroom, 10)
	require.ErrorIs(t, err, ErrTooLarge)
	_, err = s.Seal(make([]byte, 100), Headroom, 10)
	require.Error(t, err, "neither IPv4 nor IPv6")
	s.seq.Store(1<<32 - 1)
	buf := make([]byte, 100)
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
	b.Run("esp-seal-open", func(b *testing.B) {
		s, o := pair(b)
		b.SetBytes(n)
		b.ReportAllocs()
		buf[Headroom] = 0x45
		for b.Loop() {
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
