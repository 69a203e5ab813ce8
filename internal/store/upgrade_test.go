package store

import (
	"compress/gzip"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/eap"
)

// A folder that version 0.10.0 wrote before the gateway could be a process of its own: opened by this one, everything in it is there, and
// what is secret opens. testdata/shape-8.db.gz is the database of a demonstration, with its key file.
func TestFolderOfAnEarlierVersion(t *testing.T) {
	folder, ctx := t.TempDir(), t.Context()
	in, err := os.Open("testdata/shape-8.db.gz")
	require.NoError(t, err)
	defer in.Close()
	z, err := gzip.NewReader(in)
	require.NoError(t, err)
	b, err := io.ReadAll(z)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(folder, databaseName), b, 0o600))
	key, err := os.ReadFile("testdata/shape-8.key")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(folder, keyName), key, 0o600))

	s, err := Open(folder)
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	newest, err := s.Newest(ctx)
	require.NoError(t, err)
	require.Equal(t, 1, newest.Number)
	require.Contains(t, newest.Text, "Tern Island")
	users, err := s.Users(ctx)
	require.NoError(t, err)
	require.Len(t, users, 5)
	lines, err := s.Journal(ctx, JournalQuery{Limit: 100})
	require.NoError(t, err)
	require.Len(t, lines, 12)
	past, err := s.PastSessions(ctx, "wanda.warden", 10)
	require.NoError(t, err)
	require.Len(t, past, 1)
	secret, err := s.Shared(ctx, "update")
	require.NoError(t, err)
	require.NotEmpty(t, secret)
	pair, err := s.Certificate(ctx, "gate")
	require.NoError(t, err)
	require.NotNil(t, pair.Key)
	hash, err := s.unsealed(userOf(t, s, "wanda.warden").Sealed, purpose("wanda.warden"))
	require.NoError(t, err)
	want := eap.NTHash("tern-island-fixed-password")
	require.Equal(t, want[:], hash)
	taken, err := s.TakenSoFar(ctx)
	require.NoError(t, err)
	require.Zero(t, taken)
	require.NoError(t, s.AddEvents(ctx, []JournalEntry{{Kind: "login"}}, nil, Taken{Of: "log", Sequence: 7}))
	taken, err = s.TakenSoFar(ctx)
	require.NoError(t, err)
	require.EqualValues(t, 7, taken.Sequence)
}

func userOf(t *testing.T, s *Store, name string) (u User) {
	require.NoError(t, s.db.First(&u, "name = ?", name).Error)
	return u
}
