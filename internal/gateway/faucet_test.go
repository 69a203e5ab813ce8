package gateway

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// A flood of one kind is cut off and counted, does not hinder another kind, and is over with the next second.
func TestFaucet(t *testing.T) {
	var f faucet
	now := time.Unix(1000, 0)
	written := 0
	for range 5 * mostLines {
		if ok, _ := f.lets("refused", now); ok {
			written++
		}
	}
	require.Equal(t, mostLines, written)
	ok, held := f.lets("rule", now)
	require.True(t, ok)
	require.Zero(t, held)
	ok, held = f.lets("refused", now.Add(time.Second))
	require.True(t, ok)
	require.Equal(t, 4*mostLines, held)
	_, held = f.lets("refused", now.Add(time.Second))
	require.Zero(t, held, "told once")
}
