package computing

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// What a unit may take yet is its bound without what it has taken, and what it took for files is not gone.
func TestRoom(t *testing.T) {
	require.Greater(t, Room(), int64(16<<20), "of this machine")
	group := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(group, name), []byte(text), 0o600))
	}
	_, bounded := leftOf(group)
	require.False(t, bounded)
	write("memory.max", "max\n")
	write("memory.current", "900\n")
	_, bounded = leftOf(group)
	require.False(t, bounded)
	write("memory.max", "1000\n")
	left, bounded := leftOf(group)
	require.True(t, bounded)
	require.EqualValues(t, 100, left)
	write("memory.stat", "anon 200\nfile 700\nactive_file 300\ninactive_file 400\n")
	left, _ = leftOf(group)
	require.EqualValues(t, 800, left)
	write("memory.max", "100\n")
	left, _ = leftOf(group)
	require.Zero(t, left)
}
