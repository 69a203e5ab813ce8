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

// What others could put something into is not used.
func TestFolder(t *testing.T) {
	top := t.TempDir()
	require.NoError(t, os.Chmod(top, 0o700))
	require.NoError(t, Folder(filepath.Join(top, "ours", "one")))
	require.NoError(t, os.Chmod(filepath.Join(top, "ours", "one"), 0o770))
	require.ErrorContains(t, Folder(filepath.Join(top, "ours", "one")), "could be changed by others")
	require.NoError(t, os.Symlink(filepath.Join(top, "ours"), filepath.Join(top, "link")))
	require.Error(t, Folder(filepath.Join(top, "link", "two")))
	if os.Getuid() == 0 {
		require.NoError(t, os.Mkdir(filepath.Join(top, "theirs"), 0o700))
		require.NoError(t, os.Chown(filepath.Join(top, "theirs"), 1000, 1000))
		require.ErrorContains(t, Folder(filepath.Join(top, "theirs", "one")), "could be changed by others")
	}
}
