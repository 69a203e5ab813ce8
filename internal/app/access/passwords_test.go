package access

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestPasswordHashes(t *testing.T) {
	h := hashPassword("a long enough password")
	require.True(t, strings.HasPrefix(h, "$argon2id$v=19$m=65536,t=3,p=4$"))
	require.NotEqual(t, h, hashPassword("a long enough password"), "salted")
	require.True(t, passwordMatches(h, "a long enough password"))
	for _, wrong := range []string{"", "a long enough passworD", h} {
		require.False(t, passwordMatches(h, wrong))
	}
	for _, broken := range []string{"", "$argon2id$", strings.Replace(h, "$", "", 1), h[:len(h)-4]} {
		require.False(t, passwordMatches(broken, "a long enough password"))
	}
}
