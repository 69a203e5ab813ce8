package crowd

import (
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var (
	noon = time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)
	home = netip.MustParseAddr("203.0.113.45")
	away = netip.MustParseAddr("198.51.100.7")
)

func TestSource(t *testing.T) {
	for in, want := range map[string]string{
		"203.0.113.45": "203.0.113.45/32", "::ffff:203.0.113.45": "203.0.113.45/32",
		"2001:db8:10:20:1:2:3:4": "2001:db8:10:20::/64", "fe80::1%eth0": "fe80::/64",
	} {
		require.Equal(t, want, Source(netip.MustParseAddr(in)).String())
	}
	var c Count
	for i := range 5 {
		c.Add(netip.MustParseAddr(fmt.Sprintf("2001:db8::%x", i+1)))
	}
	c.Add(home)
	require.Equal(t, []int{6, 5, 1, 0}, []int{c.All(), c.Of(netip.MustParseAddr("2001:db8::77")), c.Of(home), c.Of(away)})
	c.Remove(home)
	require.Zero(t, c.Of(home))
}

// A wrong guess counts before the next is judged: of a hundred at once one is.
func TestGuessesCountAtOnce(t *testing.T) {
	var g Guard
	judged := 0
	for range 100 {
		if g.Begin(noon, "rory", home) == 0 {
			judged++
		}
	}
	require.Equal(t, 1, judged)
	total := 0
	for s := range 24 * 3600 {
		if g.Begin(noon.Add(time.Duration(s)*time.Second), "rory", home) == 0 {
			total++
		}
	}
	require.Less(t, total, 320, "guesses in a day")

	// The wait counts from when a guess was judged, however long that took.
	g = Guard{}
	require.Zero(t, g.Begin(noon, "rory", home))
	g.Wrong(noon.Add(10*time.Second), "rory", home)
	require.Equal(t, firstWait, g.Begin(noon.Add(10*time.Second), "rory", home))
	require.Zero(t, g.Begin(noon.Add(10*time.Second+firstWait), "rory", home))
}

// Whatever strangers try by somebody's name, from however many places: the person gets in from where they got in before, and from a new
// place with the first guess.
func TestNobodyIsShutOut(t *testing.T) {
	var g Guard
	require.Zero(t, g.Begin(noon, "rory", home))
	g.Right(noon, "rory", home)
	now := noon
	for i := range 2000 {
		now = now.Add(50 * time.Millisecond)
		from := netip.AddrFrom4([4]byte{198, 51, byte(i >> 8), byte(i)})
		g.Begin(now, "rory", from)
		if i%10 == 0 {
			require.Zero(t, g.Begin(now, "rory", home))
			g.Right(now, "rory", home)
		}
	}
	require.Zero(t, g.Begin(now, "rory", netip.MustParseAddr("192.0.2.200")))
	g.Right(now, "rory", netip.MustParseAddr("192.0.2.200"))
	// A second wrong guess from a new place waits long, for the name is being tried.
	require.Zero(t, g.Begin(now, "rory", netip.MustParseAddr("192.0.2.201")))
	require.Equal(t, harderWait, g.Begin(now, "rory", netip.MustParseAddr("192.0.2.201")))
}

// One device with an old password takes nothing from those who share its address, nor does one that tries every name.
func TestOneBadDevice(t *testing.T) {
	var g Guard
	now := noon
	for range 500 {
		now = now.Add(time.Second)
		g.Begin(now, "old-phone", home)
	}
	require.Zero(t, g.Begin(now, "wanda", home))
	g.Right(now, "wanda", home)
	for i := range 300 {
		g.Begin(now, fmt.Sprintf("name%d", i), home)
	}
	require.Zero(t, g.Begin(now, "wanda", home), "who got in from there still does")
	require.Zero(t, g.Begin(now, "vera", home), "and who comes for the first time has one guess")
	require.Equal(t, harderWait, g.Begin(now, "vera", home))
}

func TestLift(t *testing.T) {
	var g Guard
	for _, n := range []string{"rory", "wanda"} {
		for _, a := range []netip.Addr{home, away} {
			g.Begin(noon, n, a)
		}
	}
	require.Len(t, g.Slowed(noon), 4)
	require.Zero(t, g.Lift("", home, func(name string) bool { return name == "vera" }), "of others")
	require.Equal(t, 2, g.Lift("rory", netip.Addr{}, nil))
	require.Equal(t, 1, g.Lift("", home, func(name string) bool { return name == "wanda" }))
	require.Equal(t, []Slowed{{"wanda", Source(away), 1, noon, noon.Add(firstWait)}}, g.Slowed(noon))
	require.Zero(t, g.Begin(noon, "rory", home))
	require.Empty(t, g.Slowed(noon.Add(2*forgetAfter)))
}

// However many names and sources come, what is remembered stays bounded.
func TestGuardIsBounded(t *testing.T) {
	var g Guard
	for i := range 3 * mostPairs {
		now := noon.Add(time.Duration(i) * time.Millisecond)
		g.Begin(now, fmt.Sprint(i), netip.AddrFrom4([4]byte{10, byte(i >> 16), byte(i >> 8), byte(i)}))
		if i%2 == 0 {
			g.Right(now, fmt.Sprint("y", i), away)
		}
		require.LessOrEqual(t, len(g.pairs), mostPairs)
	}
	require.Len(t, g.names, len(g.pairs))
	require.Len(t, g.froms, len(g.pairs))
	g.Lift("", netip.Addr{}, nil)
	require.Zero(t, len(g.pairs)+len(g.names)+len(g.froms))
}

// Nothing gets lost in a tally: what is told at once and what is told later add up to what came.
func TestTally(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		tally := Tally{Every: time.Minute, Most: 3}
		came, told, now := 0, 0, noon
		collect := func() {
			out, rest := tally.Due(now)
			for _, o := range out {
				told += o.More
			}
			told += rest.More
		}
		for range rapid.IntRange(1, 60).Draw(t, "n") {
			now = now.Add(time.Duration(rapid.IntRange(0, 20).Draw(t, "s")) * time.Second)
			collect()
			came++
			if tally.Lets(now, rapid.SampledFrom([]string{"a", "b", "c", "d", "e"}).Draw(t, "key"), nil) {
				told++
			}
		}
		now = now.Add(time.Hour)
		collect()
		require.Equal(t, came, told)
	})
}

// Whatever was guessed, a guard that was given what another one told of itself now and then lets nobody guess sooner than that one.
func TestKept(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var g Guard
		kept, now := map[string]Kept{}, noon
		keep := func() {
			for _, k := range g.Changed(3) {
				kept[k.Name+k.Source.String()] = k
			}
		}
		for range rapid.IntRange(1, 60).Draw(t, "guesses") {
			name := rapid.SampledFrom([]string{"rory", "vera", "wanda", "curt"}).Draw(t, "name")
			from := rapid.SampledFrom([]netip.Addr{home, away}).Draw(t, "from")
			now = now.Add(time.Duration(rapid.IntRange(0, 40).Draw(t, "later")) * time.Second)
			if g.Begin(now, name, from) == 0 {
				if rapid.Bool().Draw(t, "right") {
					g.Right(now, name, from)
				} else {
					g.Wrong(now, name, from)
				}
			}
			if rapid.IntRange(0, 9).Draw(t, "what") == 0 {
				g.Lift(name, netip.Addr{}, nil)
			}
			keep()
		}
		for range 20 {
			keep()
		}
		var all []Kept
		for _, k := range kept {
			all = append(all, k)
		}
		var again Guard
		again.Restore(now, all)
		require.Equal(t, g.Slowed(now), again.Slowed(now))
		for _, name := range []string{"rory", "vera", "wanda", "curt"} {
			for _, from := range []netip.Addr{home, away} {
				require.Equal(t, g.Waits(now, name, from), again.Waits(now, name, from))
				require.Equal(t, g.known[pair{name, Source(from)}].IsZero(), again.known[pair{name, Source(from)}].IsZero())
			}
		}
	})
}
