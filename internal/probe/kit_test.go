package probe

import (
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/algorithm"
)

// A kit comes from elsewhere: what is read can be written and is the same, everything else is an error in words.
func FuzzReadKit(f *testing.F) {
	b, err := WriteKit(Order{User: "rory.researcher", Dial: "gate.tern.example", Algorithms: algorithm.OfLevel(algorithm.Strict)})
	require.NoError(f, err)
	f.Add(b)
	f.Add([]byte(`{"format": 2}`))
	f.Fuzz(func(t *testing.T, b []byte) {
		k, err := ReadKit(b)
		if err != nil {
			require.NotEmpty(t, err.Error())
			return
		}
		again, err := WriteKit(k.Order)
		require.NoError(t, err)
		same, err := ReadKit(again)
		require.NoError(t, err)
		require.Equal(t, k.Dial, same.Dial)
	})
}
