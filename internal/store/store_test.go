package store

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"yellowlantern/internal/core/eap"
)

func open(t *testing.T, folder string) *Store {
	s, err := Open(folder)
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	return s
}

// Of two who change the same version of a draft at once, one is told that it is stale; versions are never lost.
func TestDraftVersions(t *testing.T) {
	s, ctx := open(t, t.TempDir()), context.Background()
	_, err := s.SaveDraft(ctx, Draft{Name: "d", Text: "0"}, 0)
	require.NoError(t, err)
	_, err = s.SaveDraft(ctx, Draft{Name: "d", Text: "again"}, 0)
	require.ErrorIs(t, err, ErrExists)
	for version := 1; version <= 5; version++ {
		var wait sync.WaitGroup
		results := make([]error, 4)
		for i := range results {
			wait.Go(func() { _, results[i] = s.SaveDraft(ctx, Draft{Name: "d", Text: fmt.Sprint(version, i)}, version) })
		}
		wait.Wait()
		won := 0
		for _, err := range results {
			if err == nil {
				won++
			} else {
				require.ErrorIs(t, err, ErrStale)
			}
		}
		require.Equal(t, 1, won)
	}
	d, err := s.Draft(ctx, "d")
	require.NoError(t, err)
	require.Equal(t, 6, d.Version)
	require.NoError(t, s.DeleteDraft(ctx, "d"))
	require.ErrorIs(t, s.DeleteDraft(ctx, "d"), ErrNotFound)
	_, err = s.SaveDraft(ctx, Draft{Name: "d"}, 6)
	require.ErrorIs(t, err, ErrStale)
}

// A revision and the end of its draft are written both or neither; a number is given once; one that does not run is taken back whole.
func TestRevisions(t *testing.T) {
	s, ctx := open(t, t.TempDir()), context.Background()
	_, err := s.Newest(ctx)
	require.ErrorIs(t, err, ErrNotFound)
	d, err := s.SaveDraft(ctx, Draft{Name: "d", Text: "one"}, 0)
	require.NoError(t, err)
	require.NoError(t, s.AddRevision(ctx, Revision{Number: 1, Text: "one"}, d, &OnTrial{Back: 0, Until: time.Now()}))
	_, err = s.Draft(ctx, "d")
	require.ErrorIs(t, err, ErrNotFound)
	_, err = s.SaveDraft(ctx, Draft{Name: "e", Text: "two"}, 0)
	require.NoError(t, err)
	require.ErrorIs(t, s.AddRevision(ctx, Revision{Number: 1, Text: "two"}, Draft{Name: "e"}, nil), ErrStale)
	_, err = s.Draft(ctx, "e")
	require.NoError(t, err, "the draft stays")
	trial, err := s.OnTrial(ctx)
	require.NoError(t, err)
	require.Equal(t, 1, trial.Revision, "a refused revision does not end the trial")
	require.Equal(t, "one", d.Text)
}

func TestPeople(t *testing.T) {
	s, ctx := open(t, t.TempDir()), context.Background()
	u := User{Name: "rory", FullName: "Rory", Groups: []Membership{{"rory", "a"}, {"rory", "b"}}}
	require.NoError(t, s.AddUser(ctx, u, "tide 4 tern"))
	require.ErrorIs(t, s.AddUser(ctx, u, "tide 4 tern"), ErrExists)
	require.NoError(t, s.ChangeUser(ctx, User{Name: "rory", FullName: "R.", Off: true, Groups: []Membership{{"rory", "c"}}}))
	got, err := s.User(ctx, "rory")
	require.NoError(t, err)
	require.Equal(t, []Membership{{"rory", "c"}}, got.Groups)
	require.True(t, got.Off)
	require.Empty(t, got.Sealed)
	is := func(challenged bool, text string) {
		_, kept, err := s.Password(ctx, "rory")
		require.NoError(t, err)
		require.True(t, kept.Is(text))
		require.False(t, kept.Is(text+"x"))
		hash, ok := kept.NTHash()
		require.Equal(t, challenged, ok)
		require.Equal(t, challenged, hash == eap.NTHash(text))
	}
	is(true, "tide 4 tern")
	stamp, err := s.Stamp(ctx, "rory")
	require.NoError(t, err)
	require.NoError(t, s.KeepOtherwise(ctx, "rory", "", false))
	is(false, "tide 4 tern")
	require.NoError(t, s.KeepOtherwise(ctx, "rory", "", false))
	is(false, "tide 4 tern")
	require.NoError(t, s.KeepOtherwise(ctx, "rory", "tide 4 tern", true))
	is(true, "tide 4 tern")
	same, err := s.Stamp(ctx, "rory")
	require.NoError(t, err)
	require.Equal(t, stamp, same, "it is the same password")
	require.NoError(t, s.SetPassword(ctx, "rory", NewPassword{Text: "ebb 4 tern"}))
	is(false, "ebb 4 tern")
	_, _, err = s.Password(ctx, "nobody")
	require.ErrorIs(t, err, ErrNotFound)
	require.ErrorIs(t, s.KeepOtherwise(ctx, "nobody", "", false), ErrNotFound)
	require.ErrorIs(t, s.ChangeUser(ctx, User{Name: "nobody"}), ErrNotFound)
	two := []NewUser{{User{Name: "wanda"}, NewPassword{Text: "x"}}, {User{Name: "rory"}, NewPassword{Text: "x"}}}
	require.ErrorIs(t, s.ApplyPeople(ctx, two, nil), ErrExists)
	_, err = s.User(ctx, "wanda")
	require.ErrorIs(t, err, ErrNotFound, "all or nothing")
	require.ErrorIs(t, s.SetPassword(ctx, "nobody", NewPassword{Text: "x", Challenge: true}), ErrNotFound)
	require.NoError(t, s.RemoveUser(ctx, "rory"))
	require.NoError(t, s.AddUser(ctx, User{Name: "rory"}, "tide 4 tern"), "nothing of the old one is left")
	got, err = s.User(ctx, "rory")
	require.NoError(t, err)
	require.Empty(t, got.Groups)
}

func TestSessionsAndTokensExpire(t *testing.T) {
	s, ctx := open(t, t.TempDir()), context.Background()
	require.NoError(t, s.AddFirstAdministrator(ctx, Administrator{Name: "ada"}))
	require.ErrorIs(t, s.AddFirstAdministrator(ctx, Administrator{Name: "bob"}), ErrExists)
	require.NoError(t, s.AddConsoleSession(ctx, ConsoleSession{Hash: "old", Administrator: "ada", Expires: time.Now().Add(-time.Minute)}))
	require.NoError(t, s.AddConsoleSession(ctx, ConsoleSession{Hash: "new", Administrator: "ada", Expires: time.Now().Add(time.Minute)}))
	_, err := s.ConsoleSession(ctx, "old")
	require.ErrorIs(t, err, ErrNotFound)
	_, err = s.ConsoleSession(ctx, "new")
	require.NoError(t, err)
	require.NoError(t, s.EndConsoleSession(ctx, "new"))
	_, err = s.ConsoleSession(ctx, "new")
	require.ErrorIs(t, err, ErrNotFound)
	_, err = s.Token(ctx, "none")
	require.ErrorIs(t, err, ErrNotFound)
}

// A folder that does not fit is told with what to do, and left as it is.
func TestOpenRefuses(t *testing.T) {
	folder := t.TempDir()
	s, err := Open(folder)
	require.NoError(t, err)
	_, err = Open(folder)
	require.ErrorContains(t, err, "in use by another process ("+strconv.Itoa(os.Getpid())+")")
	require.NoError(t, s.db.Exec("PRAGMA user_version = 99").Error)
	require.NoError(t, s.Close())
	_, err = Open(folder)
	require.ErrorContains(t, err, "newer version of this program")
	_, err = Open(filepath.Join(folder, "key", "under-a-file"))
	require.ErrorContains(t, err, "data folder")
	path := filepath.Join(folder, "yellowlantern.db")
	require.NoError(t, os.WriteFile(path, bytes.Repeat([]byte("x"), 8192), 0o600))
	_, err = Open(folder)
	require.ErrorContains(t, err, "damaged")
	require.NoError(t, os.Remove(path))
	_, err = Open(folder)
	require.ErrorContains(t, err, "is empty, and there is the key file of one that was not")
	require.ErrorContains(t, err, "yl restore FILE")
}

// A page of the database that went bad is found at the start, not when somebody needs it; a folder that others may look into is closed.
func TestDamageIsFound(t *testing.T) {
	folder, ctx := t.TempDir(), t.Context()
	require.NoError(t, os.Chmod(folder, 0o777))
	s, err := Open(folder)
	require.NoError(t, err)
	info, err := os.Stat(folder)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o750), info.Mode().Perm())
	for i := range 400 {
		require.NoError(t, s.AddJournal(ctx, JournalEntry{Kind: "login", User: fmt.Sprint("user", i), Words: strings.Repeat("x", 200)}))
	}
	require.NoError(t, s.db.Exec("PRAGMA wal_checkpoint(TRUNCATE)").Error)
	var pages int64 // of the journal, behind all others
	require.NoError(t, s.db.Raw("PRAGMA page_count").Scan(&pages).Error)
	require.NoError(t, s.Close())
	f, err := os.OpenFile(filepath.Join(folder, "yellowlantern.db"), os.O_RDWR, 0)
	require.NoError(t, err)
	_, err = f.WriteAt(bytes.Repeat([]byte{0xa5}, 4096), (pages-2)*4096)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	_, err = Open(folder)
	require.ErrorContains(t, err, "is damaged (")
	require.ErrorContains(t, err, "yl restore FILE")
	if os.Geteuid() == 0 {
		require.NoError(t, os.Chown(folder, 12345, -1))
		_, err = Open(folder)
		require.ErrorContains(t, err, "belongs to user 12345")
	}
}

// The database has as many connections as it may, however many want one.
func TestConnectionsAreBounded(t *testing.T) {
	s, err := Open(t.TempDir())
	require.NoError(t, err)
	defer s.Close()
	var all sync.WaitGroup
	for range 400 {
		all.Go(func() {
			_, err := s.Token(t.Context(), "none")
			require.ErrorIs(t, err, ErrNotFound)
		})
	}
	all.Wait()
	pool, err := s.db.DB()
	require.NoError(t, err)
	require.LessOrEqual(t, pool.Stats().OpenConnections, mostConnections)
}

// A key file that is missing, foreign, cut off or open to others is refused, with what to do, and nothing is written over.
func TestKeyFile(t *testing.T) {
	for name, c := range map[string]struct {
		change func(key string) error
		want   string
	}{
		"missing":        {os.Remove, "is missing, and 1 passwords and private keys are sealed under it: restore it from the backup"},
		"foreign":        {func(key string) error { return os.WriteFile(key, bytes.Repeat([]byte{1}, 32), 0o600) }, "is not the one that this database was sealed under"},
		"cut off":        {func(key string) error { return os.Truncate(key, 5) }, "restore it from the backup"},
		"open to others": {func(key string) error { return os.Chmod(key, 0o644) }, "can be read by others"},
	} {
		t.Run(name, func(t *testing.T) {
			folder := t.TempDir()
			s := open(t, folder)
			require.NoError(t, s.AddUser(t.Context(), User{Name: "rory"}, "eight terns on the jetty"))
			require.NoError(t, s.Close())
			key := filepath.Join(folder, "key")
			kept, err := os.ReadFile(key)
			require.NoError(t, err)
			require.NoError(t, c.change(key))
			_, err = Open(folder)
			require.ErrorContains(t, err, c.want)
			require.NoError(t, os.RemoveAll(key))
			require.NoError(t, os.WriteFile(key, kept, 0o600))
			s, err = Open(folder)
			require.NoError(t, err)
			require.NoError(t, s.Close())
		})
	}
}

// What somebody relies on is synced before it is answered; events need not be.
func TestSynced(t *testing.T) {
	s := open(t, t.TempDir())
	for db, want := range map[*gorm.DB]int{s.db: 2, s.events: 1} { // FULL, NORMAL
		for range 3 { // whichever connection of the pool
			var mode int
			require.NoError(t, db.Raw("PRAGMA synchronous").Scan(&mode).Error)
			require.Equal(t, want, mode)
		}
	}
}

// A full disk stops writing, in plain words, and neither reading nor opening.
func TestFullDisk(t *testing.T) {
	folder := t.TempDir()
	s := open(t, folder)
	require.NoError(t, s.AddUser(t.Context(), User{Name: "rory"}, "eight terns on the jetty"))
	var pages int
	require.NoError(t, s.db.Raw("PRAGMA page_count").Scan(&pages).Error)
	sql, err := s.db.DB()
	require.NoError(t, err)
	sql.SetMaxOpenConns(1)
	require.NoError(t, s.db.Exec(fmt.Sprintf("PRAGMA max_page_count = %d", pages)).Error)
	big := strings.Repeat("x", 1<<20)
	_, err = s.SaveDraft(t.Context(), Draft{Name: "d", Text: big}, 0)
	trouble := TroubleOf(err)
	require.NotNil(t, trouble, "%v", err)
	require.True(t, trouble.Full)
	require.Contains(t, trouble.Error(), "disk that holds the records is full")
	_, err = s.User(t.Context(), "rory")
	require.NoError(t, err)
	require.Nil(t, TroubleOf(ErrNotFound))
	require.Nil(t, TroubleOf(nil))
}

// Whatever zone the machine is in: what has expired is worth nothing, and what has not is.
func TestExpiry(t *testing.T) {
	s, ctx := open(t, t.TempDir()), t.Context()
	for _, zone := range []int{-11, 0, 13} {
		at := func(d time.Duration) time.Time { return time.Now().Add(d).In(time.FixedZone("", zone*3600)) }
		for name, c := range map[string]struct {
			expires time.Time
			good    bool
		}{"over": {at(-time.Minute), false}, "good": {at(time.Minute), true}} {
			hash := fmt.Sprint(name, zone)
			require.NoError(t, s.AddConsoleSession(ctx, ConsoleSession{Hash: hash, Expires: c.expires}))
			_, err := s.ConsoleSession(ctx, hash)
			require.Equal(t, c.good, err == nil, hash)
			require.NoError(t, s.AddToken(ctx, Token{Hash: hash, Expires: c.expires}))
			_, err = s.Token(ctx, hash)
			require.Equal(t, c.good, err == nil, hash)
		}
	}
	require.NoError(t, s.AddToken(ctx, Token{Hash: "older"}))
	_, err := s.Token(ctx, "older")
	require.NoError(t, err)
}

func TestJournalIsShortened(t *testing.T) {
	s, err := Open(t.TempDir())
	require.NoError(t, err)
	defer s.Close()
	ctx, now := t.Context(), time.Now().UTC()
	for i := range 10 {
		require.NoError(t, s.AddJournal(ctx, JournalEntry{
			At: now.Add(-time.Duration(9-i) * 24 * time.Hour), Kind: "login", Words: "x",
		}))
	}
	gone, err := s.ShortenJournal(ctx, now.Add(-4*24*time.Hour-time.Hour))
	require.NoError(t, err)
	require.EqualValues(t, 5, gone)
	left, err := s.Journal(ctx, JournalQuery{Limit: 100})
	require.NoError(t, err)
	require.Len(t, left, 5)

	// Lines that have no reason, of a version that wrote words only, are not in the way of those that have.
	require.NoError(t,
		s.AddJournal(ctx, JournalEntry{At: now, Kind: "refused", Reason: "no-passage", With: `{"groups":"a + b","passage":"x"}`}))
	for want, q := range map[int][]JournalQuery{
		1: {{Code: "no-passage"}, {With: map[string]string{"groups": "a + b"}}, {With: map[string]string{"groups": "a + b", "passage": "x"}}},
		0: {{Code: "none"}, {With: map[string]string{"groups": "b"}}, {With: map[string]string{"groups": "a + b", "passage": "y"}}},
	} {
		for _, each := range q {
			each.Limit = 100
			got, err := s.Journal(ctx, each)
			require.NoError(t, err)
			require.Len(t, got, want, "%+v", each)
		}
	}
}

// Of each class and vantage the newest report on a revision counts; of old rounds the outcome alone is kept.
func TestReportsAndRounds(t *testing.T) {
	s, ctx := open(t, t.TempDir()), context.Background()
	now := time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)
	var rounds []uint
	for i := range 4 {
		r := Round{At: now.Add(time.Duration(i) * time.Hour), Revision: 1 + i/2, State: "done"}
		require.NoError(t, s.SaveRound(ctx, &r))
		rounds = append(rounds, r.ID)
		for _, class := range []string{"wardens", "volunteers"} {
			for _, vantage := range []string{"home", "hotel"} {
				_, err := s.AddProbeReport(ctx, ProbeReport{
					At: r.At, Class: class, Vantage: vantage, Revision: r.Revision, Round: r.ID,
					Report: fmt.Sprint(i, class, vantage),
				})
				require.NoError(t, err)
			}
		}
	}
	newest, err := s.NewestReports(ctx, 2)
	require.NoError(t, err)
	require.Len(t, newest, 4)
	for _, r := range newest {
		require.Equal(t, fmt.Sprint(3, r.Class, r.Vantage), r.Report)
	}
	older, err := s.NewestReports(ctx, 1)
	require.NoError(t, err)
	require.Equal(t, rounds[1], older[0].Round, "what was tried on another revision does not count")
	require.NoError(t, s.ThinRounds(ctx, 2))
	gone, err := s.ProbeReports(ctx, rounds[0], 10)
	require.NoError(t, err)
	require.Empty(t, gone)
	left, err := s.Rounds(ctx, 10)
	require.NoError(t, err)
	require.Len(t, left, 4, "the outcome stays")
	require.NoError(t, s.ShortenRounds(ctx, now.Add(100*time.Hour)))
	left, err = s.Rounds(ctx, 10)
	require.NoError(t, err)
	require.Len(t, left, 1, "the newest stays whatever its age")
	kept, err := s.ProbeReports(ctx, rounds[3], 10)
	require.NoError(t, err)
	require.Len(t, kept, 4)
}
