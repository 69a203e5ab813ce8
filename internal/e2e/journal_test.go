package e2e

import (
	"os"
	"path/filepath"
	"regexp"
	"testing"
	"time"

	"github.com/libtnb/sqlite"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"yellowlantern/internal/core/ledger"
	"yellowlantern/internal/instance"
	"yellowlantern/internal/store"
)

// The journal is a chain that anybody with a file of it can look over: a line that was changed is noticed by itself, a journal that was
// rewritten whole by a head that was kept elsewhere. It goes on where old lines were let go.
func TestJournalIsChained(t *testing.T) {
	t.Parallel()
	var folder string
	d := island(t, func(o *instance.Options) { folder = o.Data })
	x := newTerminal(t, d)
	for range 3 {
		x.did("users", "second-factor", "link", "rory.researcher")
	}
	require.Contains(t, x.did("journal", "verify"), "held against no head")
	heads := write(t, x.did("journal", "head"))
	x.did("users", "second-factor", "link", "vera.volunteer")
	export := write(t, x.did("journal", "export"))
	for _, more := range [][]string{nil, {"--file", export}} {
		out := x.did(append([]string{"journal", "verify", "--heads", heads}, more...)...)
		require.Regexp(t, `✓ \d+ lines, 1 to \d+: none was changed`, out)
		require.Contains(t, out, "held against 1 heads")
	}
	text, err := os.ReadFile(export)
	require.NoError(t, err)
	bad := write(t, regexp.MustCompile("rory.researcher").ReplaceAllString(string(text), "rory.resercher"))
	_, code, err := x.run("journal", "verify", "--file", bad)
	require.ErrorContains(t, err, "was changed after it was written")
	require.Equal(t, 1, code)

	db, err := gorm.Open(sqlite.Open(filepath.Join(folder, "yellowlantern.db")), &gorm.Config{})
	require.NoError(t, err)
	var lines []store.JournalEntry
	require.NoError(t, db.Order("id").Find(&lines).Error)
	require.NoError(t, db.Exec("UPDATE journal_entries SET words = 'nothing happened' WHERE id = 2").Error)
	_, _, err = x.run("journal", "verify")
	require.ErrorContains(t, err, "line 2 (")
	require.ErrorContains(t, err, "was changed after it was written")
	var last ledger.Hash
	for _, e := range lines { // whoever has the database can make it look right
		if e.ID == 2 {
			e.Words = "nothing happened"
		}
		l := ledger.Line{
			ID: uint64(e.ID), At: e.At, Kind: e.Kind, Gateway: e.Gateway, User: e.User, From: e.From, Code: e.Reason,
			With: []byte(e.With), Words: e.Words,
		}
		last = l.After(last)
		require.NoError(t, db.Exec("UPDATE journal_entries SET hash = ? WHERE id = ?", last[:], e.ID).Error)
	}
	x.did("journal", "verify")
	_, _, err = x.run("journal", "verify", "--heads", heads)
	require.ErrorContains(t, err, "was rewritten")

	n, err := d.Store.ShortenJournal(t.Context(), lines[2].At.Add(time.Millisecond))
	require.NoError(t, err)
	require.Positive(t, n)
	x.did("users", "second-factor", "link", "vera.volunteer")
	require.Contains(t, x.did("journal", "verify"), "none was changed")
	_, err = d.Store.ShortenJournal(t.Context(), time.Now().Add(time.Hour))
	require.NoError(t, err)
	require.Contains(t, x.did("journal", "export"), `"start":{"id":`)
	x.did("users", "second-factor", "link", "vera.volunteer")
	require.Contains(t, x.did("journal", "verify"), "✓ ")

	// Somebody with the database removes lines, and lets the chain begin after them.
	for range 3 {
		x.did("users", "second-factor", "link", "vera.volunteer")
	}
	newest := write(t, x.did("journal", "head"))
	require.NoError(t, db.Order("id").Find(&lines).Error)
	gone := lines[1]
	require.NoError(t, db.Exec("DELETE FROM journal_entries WHERE id <= ?", gone.ID).Error)
	require.NoError(t, db.Exec("UPDATE ledger_states SET gone = ?, hash = ?", gone.ID, gone.Hash).Error)
	for _, more := range [][]string{nil, {"--heads", newest}, {"--file", write(t, x.did("journal", "export"))}} {
		_, code, err = x.run(append([]string{"journal", "verify"}, more...)...)
		require.ErrorContains(t, err, "that start is not signed")
		require.Equal(t, 1, code)
	}
}
