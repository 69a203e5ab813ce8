package algorithm

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// Each level holds the one before and what the mission says of it, every word leads to one entry of the registry and back, and what is weak
// is in the last level alone.
func TestLevels(t *testing.T) {
	strict, broad, legacy := OfLevel(Strict), OfLevel(Broad), OfLevel(Legacy)
	require.Equal(t, Set{
		[]string{"AES-256-GCM-16", "AES-128-GCM-16", "ChaCha20-Poly1305"},
		nil,
		[]string{"PRF-HMAC-SHA2-256", "PRF-HMAC-SHA2-384", "PRF-HMAC-SHA2-512"},
		[]string{"X25519", "P-256", "P-384", "P-521"},
		[]string{"ML-KEM-768", "ML-KEM-1024"},
	}, strict)
	require.Equal(t, append(strict.Encryption, "AES-256-CBC", "AES-128-CBC"), broad.Encryption)
	require.Equal(t, append(strict.Groups, "MODP-2048"), broad.Groups)
	require.Equal(t, []string{"HMAC-SHA2-256-128", "HMAC-SHA2-384-192", "HMAC-SHA2-512-256", "HMAC-SHA1-96"}, legacy.Integrity)
	require.Equal(t, append(broad.Encryption, "3DES-CBC"), legacy.Encryption)
	require.Equal(t, append(broad.Groups, "MODP-1024"), legacy.Groups)
	require.Equal(t, append(broad.PRF, "PRF-HMAC-SHA1"), legacy.PRF)
	require.False(t, strict.Separate())
	require.True(t, broad.Separate())
	require.Empty(t, Of("", Group))

	seen := map[string]bool{}
	for _, a := range All {
		require.False(t, seen[a.Name], a.Name)
		seen[a.Name] = true
		require.Equal(t, a.Level == Legacy, a.Weak != "", a.Name)
		for _, word := range []string{a.Name, a.Was} {
			if word != "" {
				got, ok := Named(a.Kind, word)
				require.True(t, ok)
				require.Equal(t, a, got)
			}
		}
		got, ok := Numbered(a.Kind, a.Number, a.Bits)
		require.True(t, ok)
		require.Equal(t, a.Name, got.Name)
	}
	offers := Offers("AES-256-CBC, HMAC-SHA2-256-128, no separate integrity, PRF-HMAC-SHA2-256, MODP-1024; or " +
		"AES-256-CBC, HMAC-SHA1-96, PRF-HMAC-SHA2-256, MODP-2048; or something else")
	require.Len(t, offers, 2)
	least, ok := strict.Least(offers)
	require.True(t, ok)
	require.True(t, least.Weak(), "each lacks something weak")
	require.Equal(t, Set{
		Encryption: []string{"AES-256-CBC"}, Integrity: []string{"HMAC-SHA2-256-128"}, Groups: []string{"MODP-1024"},
	}, least)
	least, ok = broad.Least(append(offers, OfLevel(Broad)))
	require.True(t, ok)
	require.True(t, least.None())
	_, ok = strict.Least(nil)
	require.False(t, ok)
	_, ok = Named(Group, "")
	require.False(t, ok)
	require.True(t, Set{Encryption: []string{"AES-256-CBC"}, PRF: []string{"PRF-HMAC-SHA2-256"}, Groups: []string{"X25519"}}.Empty())
	require.False(t, broad.Empty())
	require.Equal(t, "AES-256-GCM-16, AES-128-GCM-16, ChaCha20-Poly1305; PRF-HMAC-SHA2-256, PRF-HMAC-SHA2-384, PRF-HMAC-SHA2-512; X25519, P-256, P-384, P-521; ML-KEM-768, ML-KEM-1024",
		strict.String())
}
