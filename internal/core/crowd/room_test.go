package crowd

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Whatever is begun, heard of and ended in whatever order: bounds hold, nothing is lost without being given back, and a source that stays
// below its share loses nothing while another one floods.
func TestRoom(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r := Room[int, string, int]{Most: 20, Share: 8, Lasts: time.Minute}
		now := time.Unix(1e9, 0)
		in, of := map[int]bool{}, map[string]int{}
		source := map[int]string{}
		leave := func(v int) {
			require.True(t, in[v], "what gives way was there")
			delete(in, v)
			of[source[v]]--
		}
		key := 0
		for range rapid.IntRange(1, 200).Draw(t, "steps") {
			now = now.Add(time.Duration(rapid.IntRange(0, 9).Draw(t, "seconds")) * time.Second)
			switch rapid.IntRange(0, 3).Draw(t, "what") {
			case 0, 1:
				key++
				source[key] = rapid.SampledFrom([]string{"a", "b", "c", "d"}).Draw(t, "source")
				for _, v := range r.Add(now, key, source[key], key) {
					leave(v)
				}
				in[key] = true
				of[source[key]]++
			case 2:
				if v, ok := r.Heard(now, rapid.IntRange(0, key).Draw(t, "key")); ok {
					require.True(t, in[v])
				}
			case 3:
				if v, ok := r.Remove(rapid.IntRange(0, key).Draw(t, "key")); ok {
					leave(v)
				}
			}
			require.Equal(t, len(in), r.Len())
			require.LessOrEqual(t, r.Len(), r.Most)
			for _, n := range of {
				require.LessOrEqual(t, n, r.Share)
			}
		}
	})
	r := Room[int, string, int]{Most: 100, Share: 40, Lasts: time.Minute}
	now := time.Unix(1e9, 0)
	require.Empty(t, r.Add(now, -1, "home", -1))
	for n := range 10_000 {
		source := []string{"x", "y", "z"}[n%3]
		require.NotContains(t, r.Add(now.Add(time.Duration(n)*time.Millisecond), n, source, n), -1)
	}
	_, ok := r.Heard(now.Add(10*time.Second), -1)
	require.True(t, ok, "10,000 others cost it nothing")
	_, ok = r.Heard(now.Add(2*time.Minute), -1)
	require.False(t, ok, "it is abandoned")
	require.Contains(t, r.Add(now.Add(2*time.Minute), 1_000_000, "home", 0), -1)
}
