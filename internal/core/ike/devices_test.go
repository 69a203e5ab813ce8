package ike

import (
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/algorithm"
	"yellowlantern/internal/core/devices"
)

// What is said of a platform beforehand is what happens: with what each offers by itself, and with all that it can be set to, a login comes
// about where the tunnel lacks nothing, and otherwise once it has what it was said to lack; a device that begins with MODP-1024 waits for a
// cookie and no longer.
func TestDevicesAsTold(t *testing.T) {
	told := map[string]bool{}
	for _, level := range []string{algorithm.Strict, algorithm.Broad, algorithm.Legacy} {
		for _, p := range devices.Platforms {
			for name, offers := range map[string]algorithm.Set{"by itself": p.Default, "set up": p.Able} {
				tunnel := algorithm.OfLevel(level)
				lacks := tunnel.Lacks(offers)
				login := func(accepts algorithm.Set) bool {
					w := newWorld(t, func(s *Settings, c *Caller) {
						s.Algorithms, c.Algorithms = must(PolicyOf(accepts)), must(PolicyOf(offers))
					})
					first := w.i.Start(w.now)[0].(Send).Data
					o := must(ReadOffer(first))
					suite, _, answered := w.l.set.Algorithms.Answered(o)
					w.i = must(NewInitiator(w.i.c))
					w.login()
					up, ok := find[Up](w)
					require.Equal(t, ok, answered, "what its first message tells of it")
					if ok {
						require.Equal(t, up.Suite, suite)
					}
					return ok
				}
				require.Equal(t, lacks.None(), login(tunnel), "%s, %s, level %s: lacks %s", p.Name, name, level, lacks)
				told[p.Word+", "+name+", "+level] = lacks.None()
				for _, k := range algorithm.Kinds {
					list := tunnel.Kind(k)
					*list = append(append([]string{}, *list...), *lacks.Kind(k)...)
				}
				require.True(t, login(tunnel), "%s, %s, level %s with %s", p.Name, name, level, lacks)
			}
		}
	}
	for who, in := range map[string]bool{
		"windows, by itself, strict": false, "windows, by itself, broad": false, "windows, by itself, legacy": true, "windows, set up, strict": true,
		"apple, by itself, strict": false, "apple, by itself, broad": true, "apple, set up, strict": true, "android, by itself, strict": true,
		"own-client, by itself, strict": true,
	} {
		require.Equal(t, in, told[who], who)
	}
}
