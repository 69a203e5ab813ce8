package password

import (
	"bytes"
	"crypto/rand"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestHashes(t *testing.T) {
	h, err := Recommended.Hash("a long enough password", rand.Reader)
	require.NoError(t, err)
	require.True(t, strings.HasPrefix(h, "$argon2id$v=19$m=65536,t=3,p=4$"))
	require.True(t, Matches(h, "a long enough password"))
	light := Cost{Passes: 1, Memory: 8, Lanes: 1}
	a, _ := light.Hash("a long enough password", rand.Reader)
	b, _ := light.Hash("a long enough password", rand.Reader)
	require.NotEqual(t, a, b, "salted")
	require.True(t, Matches(a, "a long enough password"), "by the cost that it was made with")
	for _, wrong := range []string{"", "a long enough passworD", a} {
		require.False(t, Matches(a, wrong))
	}
	for _, broken := range []string{
		"", "$argon2id$", a[:len(a)-4], strings.Replace(a, "m=8", "m=4294967295", 1), strings.Replace(a, "p=1", "p=0", 1),
	} {
		require.False(t, Matches(broken, "a long enough password"), broken)
	}
	_, err = light.Hash("x", bytes.NewReader(nil))
	require.Error(t, err)
}

func TestCheck(t *testing.T) {
	for _, bad := range []string{
		"short", "elevenchars", "password1234", "P@ssw0rd2026!", "Passwort-2026", "qwertyuiop12", "1q2w3e4r5t6y", "abcdefghijkl", "aaaaaaaaaaaa",
		"121212121212", "Summer2026!!!", "welcome-welcome", "changeme-now1", "rory.researcher", "RoryResearcher1", "Observatory2026!", "987654321098",
		"iloveyou1234", "letmein-2026", "tab\tand more of it", "\xff\xfe not text at all", strings.Repeat("long enough ", 30),
	} {
		require.Error(t, Check(bad, 12, "rory.researcher", "Rory Researcher", "Tern Island Observatory"), bad)
	}
	for _, good := range []string{
		"gannet lantern mosaic ferry", "correct horse battery staple", "x7!Kp-92fLq.wT", "пароль из четырёх слов", "kovap-ruzil-tinem-dabof", "summer tunnel biscuit ledger",
	} {
		require.NoError(t, Check(good, 12, "rory.researcher", "Rory Researcher", "Tern Island Observatory"), good)
	}
	require.Error(t, Check("gannet mosaic", 16))
}

func TestNew(t *testing.T) {
	seen := map[string]bool{}
	for range 1000 {
		p, err := New(rand.Reader)
		require.NoError(t, err)
		require.Len(t, p, 23)
		require.NoError(t, Check(p, 20))
		require.False(t, seen[p])
		seen[p] = true
	}
	_, err := New(bytes.NewReader([]byte{1, 2}))
	require.Error(t, err)
}
