package private

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestPrivate(t *testing.T) {
	path := filepath.Join(t.TempDir(), "keys")
	f, err := Append(path)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	require.NoError(t, os.Chmod(path, 0o644))
	_, err = Append(path)
	require.ErrorContains(t, err, "chmod 600 "+path)
	require.NoError(t, Write(path, []byte("token")))
	info, err := os.Stat(path)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	require.NoError(t, Check(path))
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Equal(t, "token", string(b))
	left, err := os.ReadDir(filepath.Dir(path))
	require.NoError(t, err)
	require.Len(t, left, 1)
}
