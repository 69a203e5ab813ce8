package backup

import (
	"os"
	"path/filepath"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/store"
)

// Everything comes back from a backup that was made while the records were written to, in another folder: what is secret by the passphrase
// alone, and without secrets nothing secret is in the file. What is damaged, foreign or in the way is refused, and nothing is left of it.
func TestBackup(t *testing.T) {
	ctx, folder, files := t.Context(), t.TempDir(), t.TempDir()
	s, err := store.Open(folder)
	require.NoError(t, err)
	defer s.Close()
	require.NoError(t, s.AddFirstAdministrator(ctx, store.Administrator{Name: "ada", Hash: "the hash of a password"}))
	require.NoError(t, s.AddUser(ctx, store.User{Name: "wanda"}, "tern island wardens"))
	require.NoError(t, s.SaveShared(ctx, "update", "tsig", []byte("a shared secret")))
	stop, done := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(done)
		for n := 0; ; n++ {
			select {
			case <-stop:
				return
			default:
				_ = s.AddJournal(ctx, store.JournalEntry{Kind: "login", User: strconv.Itoa(n)}, store.Taken{})
			}
		}
	}()
	pass := []byte("four unrelated words")
	with, without := filepath.Join(files, "with"), filepath.Join(files, "without")
	m, err := Write(folder, with, "1", pass)
	require.NoError(t, err)
	require.True(t, m.Secrets)
	_, err = Write(folder, without, "1", nil)
	require.NoError(t, err)
	close(stop)
	<-done
	info, err := os.Stat(with)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	other := filepath.Join(files, "other")
	_, err = Restore(with, other, []byte("four other words!"))
	require.ErrorIs(t, err, errPassphrase)
	require.NoDirExists(t, other)
	_, err = Restore(with, other, pass)
	require.NoError(t, err)
	back, err := store.Open(other)
	require.NoError(t, err)
	secret, err := back.Shared(ctx, "update")
	require.NoError(t, err)
	require.Equal(t, "a shared secret", string(secret))
	lines, err := back.Journal(ctx, store.JournalQuery{Limit: 1 << 20})
	require.NoError(t, err)
	for i, l := range lines {
		require.Equal(t, strconv.Itoa(len(lines)-1-i), l.User, "as it was at one moment")
	}
	require.NoError(t, back.Close())
	_, err = Restore(with, other, pass)
	require.ErrorContains(t, err, "is not empty")

	bare := filepath.Join(files, "bare")
	_, err = Restore(without, bare, nil)
	require.NoError(t, err)
	back, err = store.Open(bare)
	require.NoError(t, err)
	has, err := back.HasAdministrator(ctx)
	require.NoError(t, err)
	require.False(t, has, "a new one is named by the setup code")
	_, err = back.User(ctx, "wanda")
	require.NoError(t, err)
	require.NoError(t, back.Close())
	b, err := os.ReadFile(without)
	require.NoError(t, err)
	require.NotContains(t, string(b), "the hash of a password")

	b, err = os.ReadFile(with)
	require.NoError(t, err)
	for what, broken := range map[string][]byte{
		"no backup":  []byte("nothing of ours"),
		"cut short":  b[:2048],
		"is damaged": append(append(append([]byte{}, b[:len(b)/2]...), b[len(b)/2]^1), b[len(b)/2+1:]...),
	} {
		path, at := filepath.Join(files, "broken"), filepath.Join(files, "at")
		require.NoError(t, os.WriteFile(path, broken, 0o600))
		_, err = Restore(path, at, pass)
		require.ErrorContains(t, err, what)
		require.NoDirExists(t, at)
	}
	_, err = Write(t.TempDir(), filepath.Join(files, "none"), "1", pass)
	require.ErrorContains(t, err, "no database in")
	_, err = Write(folder, filepath.Join(files, "short"), "1", []byte("short"))
	require.ErrorContains(t, err, "at least 12")
	require.NoFileExists(t, filepath.Join(files, "short"))
}
