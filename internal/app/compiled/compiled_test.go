package compiled_test

import (
	"crypto/rand"
	"slices"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/demo"
	"yellowlantern/internal/app/compiled"
	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/check"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/people"
	"yellowlantern/internal/store"
)

// Whoever looks at a text, and however many at once, has the same of it, worked out once. It is worked out anew when people, certificates
// or secrets change, and only then; other plans push out what nobody looked at for longest.
func TestOnceForEverybody(t *testing.T) {
	st, err := store.Open(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { _ = st.Close() })
	who := people.New(st)
	c := compiled.New(st, who)
	island, err := demo.Load("")
	require.NoError(t, err)

	var mu sync.Mutex
	wholes, knowns := map[*compiled.Whole]bool{}, map[*reach.Known]bool{}
	var wait sync.WaitGroup
	for range 8 {
		wait.Go(func() {
			w, err := c.Of(island.Plan)
			known, errKnown := w.Known(t.Context())
			_, errBoard := w.Board(t.Context())
			found, errFound := w.Findings(t.Context())
			mu.Lock()
			defer mu.Unlock()
			for _, err := range []error{err, errKnown, errBoard, errFound} {
				require.NoError(t, err)
			}
			require.NotEmpty(t, found)
			wholes[w], knowns[known] = true, true
		})
	}
	wait.Wait()
	require.Len(t, wholes, 1)
	require.Len(t, knowns, 1)

	w, err := c.Of(island.Plan)
	require.NoError(t, err)
	has := func(code string) bool {
		found, err := w.Findings(t.Context())
		require.NoError(t, err)
		return slices.ContainsFunc(found, func(f check.Finding) bool { return f.Code == code })
	}
	rows := func() (n int) {
		b, err := w.Board(t.Context())
		require.NoError(t, err)
		for _, r := range b.Rows {
			n += len(r.Users)
		}
		return n
	}
	require.Zero(t, rows())
	require.NoError(t, who.Add(t.Context(), people.User{Name: "rory.researcher", Groups: []string{"researchers"}},
		"a password long enough"))
	require.Equal(t, 1, rows(), "somebody came")
	known, err := w.Known(t.Context())
	require.NoError(t, err)
	require.Len(t, known.People(), 1)

	_, err = c.Of("site: [")
	require.Error(t, err)
	require.True(t, has("no-certificate"))
	ca, err := cert.NewAuthority(rand.Reader, time.Now(), "Tern Island")
	require.NoError(t, err)
	pair, err := ca.NewGateway(rand.Reader, time.Now(), "gate.tern.example")
	require.NoError(t, err)
	require.NoError(t, st.SaveCertificate(t.Context(), "gate", pair))
	require.False(t, has("no-certificate"), "it is there now")

	first, err := c.Of(island.Plan)
	require.NoError(t, err)
	for i := range 20 {
		_, err := c.Of(island.Plan + "# " + strconv.Itoa(i) + "\n")
		require.NoError(t, err)
		if i == 1 {
			again, err := c.Of(island.Plan)
			require.NoError(t, err)
			require.True(t, first == again, "what is looked at is kept")
		}
	}
	last, err := c.Of(island.Plan)
	require.NoError(t, err)
	require.False(t, first == last)
}
