package backup

import (
	"os"
	"path/filepath"
	"strconv"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/private"
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
	require.NoError(t, s.SaveSourcePerson(ctx, store.SourcePerson{Name: "dora", Source: "mainland", Hash: "the hash of a password there"}))
	require.NoError(t, s.SaveShared(ctx, store.SharedSecret{Name: "update", Kind: "tsig"}, []byte("a shared secret"), false))
	stop, done := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(done)
		for n := 0; ; n++ {
			select {
			case <-stop:
				return
			default:
				_ = s.AddJournal(ctx, store.JournalEntry{Kind: "login", User: strconv.Itoa(n)})
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
	_, _, err = Restore(with, other, []byte("four other words!"))
	require.ErrorIs(t, err, errPassphrase)
	require.NoDirExists(t, other)
	_, _, err = Restore(with, other, pass)
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
	lock, err := private.Lock(other)
	require.NoError(t, err)
	_, _, err = Restore(with, other, pass)
	require.ErrorContains(t, err, "in use by another process", "a service that runs is not pulled away")
	require.NoError(t, lock.Close())
	if os.Getuid() == 0 {
		require.NoError(t, os.Chown(other, 1234, 1234))
	}
	require.NoError(t, os.WriteFile(filepath.Join(other, "theirs"), nil, 0o600))
	_, aside, err := Restore(with, other, pass)
	require.NoError(t, err)
	require.FileExists(t, filepath.Join(aside, "theirs"), "what was there is kept")
	kept := map[string]bool{aside: true}
	for range 3 { // within the same second
		_, aside, err = Restore(with, other, pass)
		require.NoError(t, err)
		require.False(t, kept[aside], "each is kept")
		kept[aside] = true
	}
	require.NoFileExists(t, filepath.Join(other, "theirs"))
	if os.Getuid() == 0 {
		for _, path := range []string{other, filepath.Join(other, store.DatabaseName), filepath.Join(other, store.KeyName)} {
			info, err := os.Stat(path)
			require.NoError(t, err)
			require.EqualValues(t, 1234, info.Sys().(*syscall.Stat_t).Uid, path)
			require.Zero(t, info.Mode().Perm()&0o077, path)
		}
	}
	there, err := filepath.Glob(filepath.Join(files, "*.restored-*"))
	require.NoError(t, err)
	require.Empty(t, there)

	bare := filepath.Join(files, "bare")
	_, _, err = Restore(without, bare, nil)
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
	require.Contains(t, string(b), "the hash of a password", "which would show it")
	for what, broken := range map[string][]byte{
		"no backup":  []byte("nothing of ours"),
		"cut short":  b[:2048],
		"is damaged": append(append(append([]byte{}, b[:len(b)/2]...), b[len(b)/2]^1), b[len(b)/2+1:]...),
	} {
		path, at := filepath.Join(files, "broken"), filepath.Join(files, "at")
		require.NoError(t, os.WriteFile(path, broken, 0o600))
		_, _, err = Restore(path, at, pass)
		require.ErrorContains(t, err, what)
		require.NoDirExists(t, at)
	}
	_, err = Write(t.TempDir(), filepath.Join(files, "none"), "1", pass)
	require.ErrorContains(t, err, "no database in")
	_, err = Write(folder, filepath.Join(files, "short"), "1", []byte("short"))
	require.ErrorContains(t, err, "at least 12")
	require.NoFileExists(t, filepath.Join(files, "short"))
}
