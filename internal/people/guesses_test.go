package people

import (
	"net/netip"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"
)

// Of many wrong guesses at once one is judged; right ones at once are all judged.
func TestManyGuessesAtOnce(t *testing.T) {
	from := netip.MustParseAddr("203.0.113.45")
	for _, right := range []bool{false, true} {
		var g Guesses
		var judged, waited, told atomic.Int32
		var wait sync.WaitGroup
		for range 40 {
			wait.Go(func() {
				before, after := g.Try("rory", from, func() Verdict { judged.Add(1); return Guessed(right) })
				if before > 0 {
					waited.Add(1)
				} else if after > 0 {
					told.Add(1)
				}
			})
		}
		wait.Wait()
		require.EqualValues(t, 40, judged.Load()+waited.Load())
		require.Equal(t, map[bool]int32{false: 1, true: 40}[right], judged.Load())
		require.Equal(t, map[bool]int32{false: 1, true: 0}[right], told.Load())
		require.Empty(t, g.trying)
		if !right {
			require.Len(t, g.Slowed(), 1)
			require.Equal(t, 1, g.Lift("rory", from, nil))
			before, after := g.Try("rory", from, func() Verdict { return RightGuess })
			require.Zero(t, before+after)
		}
	}
}
