package service

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Each failure doubles the wait, up to half a minute; a success ends it; names do not hinder each other, nor does their number.
func TestGuessingIsSlowedDown(t *testing.T) {
	var l limiter
	require.LessOrEqual(t, l.wait("ada"), time.Duration(0))
	last := time.Duration(0)
	for n := range 12 {
		l.note("ada", false)
		wait := l.wait("ada")
		require.LessOrEqual(t, wait, 30*time.Second)
		if n < 6 {
			require.Greater(t, wait, last)
		}
		last = wait
	}
	require.Greater(t, last, 29*time.Second)
	require.LessOrEqual(t, l.wait("bob"), time.Duration(0))
	l.note("ada", true)
	require.LessOrEqual(t, l.wait("ada"), time.Duration(0))
	for n := range 20100 {
		l.note(strings.Repeat("x", n%50)+string(rune(n)), false)
	}
	require.Less(t, len(l.fails), 10002, "guessing names does not fill memory")
}

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
