package onetime

import (
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var vectors = Of(ByCounter, []byte("12345678901234567890"))

// The codes of RFC 4226, appendix D, and the last six digits of RFC 6238, appendix B.
func TestVectors(t *testing.T) {
	for at, want := range []string{
		"755224", "287082", "359152", "969429", "338314", "254676", "287922", "162583", "399871", "520489",
	} {
		require.Equal(t, want, vectors.Code(uint64(at)))
	}
	for at, want := range map[int64]string{
		59: "287082", 1111111109: "081804", 1111111111: "050471", 1234567890: "005924", 2000000000: "279037", 20000000000: "353130",
	} {
		require.Equal(t, want, vectors.Code(At(time.Unix(at, 0))))
	}
}

func TestJudge(t *testing.T) {
	now := time.Unix(1111111109, 0)
	place := At(now)
	byTime := Of(ByTime, vectors.Octets())
	for _, x := range []struct {
		about  string
		secret Secret
		code   string
		next   uint64
		want   Verdict
		after  uint64
	}{
		{"now", byTime, "081804", 0, Right, place + 1},
		{"with a space, as it is shown", byTime, "081 804", 0, Right, place + 1},
		{"used", byTime, "081804", place + 1, Used, place + 1},
		{"the step before", byTime, byTime.Code(place - 1), 0, Right, place},
		{"the step before, after this one", byTime, byTime.Code(place - 1), place + 1, Used, place + 1},
		{"the step after", byTime, byTime.Code(place + 1), place + 1, Right, place + 2},
		{"two steps before", byTime, byTime.Code(place - 2), 0, Wrong, 0},
		{"two steps after", byTime, byTime.Code(place + 2), 0, Wrong, 0},
		{"nothing", byTime, "", 0, Wrong, 0},
		{"other digits", byTime, "٠٨١٨٠٤", 0, Wrong, 0},
		{"longer", byTime, "0818040", 0, Wrong, 0},
		{"counter", vectors, "755224", 0, Right, 1},
		{"counter, used", vectors, "755224", 1, Wrong, 1},
		{"counter, nine left out", vectors, "520489", 0, Right, 10},
		{"counter, ten left out", vectors, vectors.Code(10), 0, Wrong, 0},
	} {
		got, after := x.secret.Judge(x.code, x.next, now)
		require.Equal(t, x.want, got, x.about)
		require.Equal(t, x.after, after, x.about)
	}
}

// Whatever is tried in whatever order, no code counts twice, and none that is older than one that counted.
func TestEachCountsOnce(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := Of(rapid.SampledFrom([]string{ByTime, ByCounter}).Draw(t, "kind"), vectors.Octets())
		next, now := uint64(0), time.Unix(1111111109, 0)
		counted := map[string]bool{}
		for range rapid.IntRange(1, 30).Draw(t, "tries") {
			now = now.Add(time.Duration(rapid.IntRange(0, 40).Draw(t, "seconds")) * time.Second)
			at := At(now) + uint64(rapid.IntRange(0, 4).Draw(t, "drift")) - 2
			if s.Kind == ByCounter {
				at = uint64(rapid.IntRange(0, 12).Draw(t, "counter"))
			}
			code := s.Code(at)
			v, after := s.Judge(code, next, now)
			if v == Right {
				require.False(t, counted[code])
				require.Greater(t, after, next)
				counted[code] = true
			} else {
				require.Equal(t, next, after)
			}
			next = after
		}
	})
}

func TestRead(t *testing.T) {
	s, err := Read(ByTime, "gezd gnbv gy3t qojq gezd-gnbv-gy3t-qojq\n")
	require.NoError(t, err)
	require.Equal(t, vectors.Octets(), s.Octets())
	for _, wrong := range []string{"", "GEZDGNBV", "GEZD1", strings.Repeat("GEZDGNBV", 20), "\x00"} {
		_, err := Read(ByTime, wrong)
		require.Error(t, err, wrong)
	}
	u, err := url.Parse(s.URI("Tern Island Observatory", "rory.researcher"))
	require.NoError(t, err)
	require.Equal(t, []string{"otpauth", "totp", "/Tern Island Observatory:rory.researcher"}, []string{u.Scheme, u.Host, u.Path})
	require.Equal(t, []string{s.Text(), "Tern Island Observatory"}, []string{u.Query().Get("secret"), u.Query().Get("issuer")})
}
