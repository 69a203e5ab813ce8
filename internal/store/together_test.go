package store

import (
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/ledger"
)

// Lines that many write at once are each written once, chained, with what a gateway tells of between them; a folder that takes nothing more
// tells everybody so, and goes on afterwards.
func TestLinesTogether(t *testing.T) {
	s, err := Open(t.TempDir())
	require.NoError(t, err)
	defer s.Close()
	ctx := t.Context()
	var all sync.WaitGroup
	var failed atomic.Int64
	write := func(who, n int) {
		for i := range n {
			e := JournalEntry{At: time.Now(), Kind: "login", User: fmt.Sprint("user", who), Words: fmt.Sprint(i)}
			if s.AddJournal(ctx, e) != nil {
				failed.Add(1)
			}
		}
	}
	for who := range 16 {
		all.Go(func() { write(who, 40) })
	}
	all.Go(func() { // and what a gateway tells of, with that it was taken
		for i := range 40 {
			lines := []JournalEntry{{At: time.Now(), Kind: "ended"}, {At: time.Now(), Kind: "ended"}}
			if s.AddEvents(ctx, lines, []PastSession{{User: "rory"}}, Taken{Of: "log", Sequence: uint64(i + 1)}) != nil {
				failed.Add(1)
			}
		}
	})
	all.Wait()
	require.Zero(t, failed.Load())

	// One transaction holds what waited while the chain was held by somebody else.
	s.chain.mu.Lock()
	for who := range 50 {
		all.Go(func() { write(who, 1) })
	}
	require.Eventually(t, func() bool {
		s.lines.mu.Lock()
		defer s.lines.mu.Unlock()
		return len(s.lines.all) == 50
	}, 5*time.Second, time.Millisecond)
	s.writeLines(ctx, s.lines.take())
	require.EqualValues(t, 16*40+2*40+50, s.chain.last.ID)
	s.chain.mu.Unlock()
	all.Wait()

	// Nothing can be written: each is told, and the chain goes on where it was.
	require.NoError(t, s.events.Exec("PRAGMA query_only = 1").Error)
	for who := range 4 {
		all.Go(func() { write(who, 3) })
	}
	all.Wait()
	require.EqualValues(t, 12, failed.Load())
	require.NoError(t, s.events.Exec("PRAGMA query_only = 0").Error)
	write(1, 1)
	require.EqualValues(t, 12, failed.Load())

	from, err := s.LedgerStart(ctx)
	require.NoError(t, err)
	check, err := ledger.NewChecker(from, nil)
	require.NoError(t, err)
	got, err := s.LedgerLines(ctx, from.ID, 10_000)
	require.NoError(t, err)
	require.Len(t, got, 16*40+2*40+50+1)
	of := map[string]int{}
	for _, l := range got {
		require.NoError(t, check.Next(l))
		of[l.User]++
	}
	require.NoError(t, check.End())
	require.Equal(t, 42, of["user1"])
	taken, err := s.TakenSoFar(ctx)
	require.NoError(t, err)
	require.Equal(t, Taken{Of: "log", Sequence: 40}, Taken{Of: taken.Of, Sequence: taken.Sequence})
}

// BenchmarkLines writes lines of the journal one after the other, and by sixteen at once.
func BenchmarkLines(b *testing.B) {
	for _, at := range []int{1, 16} {
		b.Run(fmt.Sprintf("%d-at-once", at), func(b *testing.B) {
			s, err := Open(b.TempDir())
			require.NoError(b, err)
			defer s.Close()
			b.SetParallelism(max(1, at/2))
			write := func() {
				if err := s.AddJournal(b.Context(), JournalEntry{
					At: time.Now(), Kind: "login", User: "rory",
					Words: "logged in",
				}); err != nil {
					b.Fatal(err)
				}
			}
			if at == 1 {
				for b.Loop() {
					write()
				}
				return
			}
			b.RunParallel(func(pb *testing.PB) {
				for pb.Next() {
					write()
				}
			})
		})
	}
}
