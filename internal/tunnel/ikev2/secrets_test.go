package ikev2

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Keys of tickets change with time and are forgotten once none of theirs counts; all outlives the process, for its owner alone. What cannot
// be read is made anew, and said.
func TestSecretsOutlive(t *testing.T) {
	folder := t.TempDir()
	open := func() *keeper {
		k, err := openKeeper(folder)
		require.NoError(t, err)
		return k
	}
	at := time.Now()
	first, err := open().secrets(at)
	require.NoError(t, err)
	require.Len(t, first.Tickets, 1)
	info, err := os.Stat(filepath.Join(folder, secretsName))
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	for _, step := range []struct {
		after time.Duration
		keys  int
		makes uint32
	}{
		{time.Hour, 1, 1}, {6 * time.Hour, 2, 2}, {17 * time.Hour, 3, 3}, {18 * time.Hour, 2, 3}, {60 * time.Hour, 1, 1}, {59 * time.Hour, 1, 1},
	} {
		now, err := open().secrets(at.Add(step.after))
		require.NoError(t, err)
		require.Equal(t, first.Crash, now.Crash)
		require.Len(t, now.Tickets, step.keys, "after %s", step.after)
		require.Equal(t, step.makes, now.Tickets[0].ID, "after %s", step.after)
	}
	require.NoError(t, os.WriteFile(filepath.Join(folder, secretsName), []byte("{"), 0o600))
	k, err := openKeeper(folder)
	require.Error(t, err)
	anew, err := k.secrets(at)
	require.NoError(t, err)
	require.NotEqual(t, first.Crash, anew.Crash)
	require.Len(t, anew.Tickets, 1)
}
