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
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/people"
	"yellowlantern/internal/store"
	"yellowlantern/internal/testkit/bigplan"
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
			_, errBeyond := w.Pinned(t.Context())
			found, errFound := w.Findings(t.Context())
			mu.Lock()
			defer mu.Unlock()
			for _, err := range []error{err, errKnown, errBeyond, errFound} {
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
		known, err := w.Known(t.Context())
		require.NoError(t, err)
		for _, c := range known.Classes {
			n += len(c.Users)
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

// Of a large plan it is told how large it is before it is computed; each class of it can be had before the others; and what there is no
// room for is refused before it takes it.
func TestLargePlans(t *testing.T) {
	st, err := store.Open(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { _ = st.Close() })
	c := compiled.New(st, people.New(st))
	p, _ := bigplan.Make(bigplan.Base)
	p.Sources = []plan.Source{{
		Name: "directory", Kind: plan.KindLDAP, Servers: []string{"ldaps://directory.tern.example"}, Own: &plan.LDAP{Base: "dc=tern,dc=example"},
	}}
	text, err := bigplan.Text(p)
	require.NoError(t, err)
	w, err := c.Called("draft large", text)
	require.NoError(t, err)

	size, err := w.Size(t.Context())
	require.NoError(t, err)
	require.Equal(t, []int{200, 501, 2000, 200}, []int{size.Classes, size.Destinations, size.Rules, size.Expectations})
	require.Contains(t, size.Words, "200 classes of people, 501 destinations, 2000 rules, 200 expectations: about ")
	require.Positive(t, size.Seconds)
	require.Positive(t, size.Room)

	c.Room, c.Few = func() int64 { return size.Octets }, 0
	other, err := c.Of(text + "# once more\n")
	require.NoError(t, err)
	_, err = other.Known(t.Context())
	require.ErrorContains(t, err, "too large to be worked out here: 200 classes of people")
	require.Empty(t, c.Desk.Tasks(t.Context()))

	c.Room = func() int64 { return 0 } // it cannot be told
	known, err := w.Known(t.Context())
	require.NoError(t, err)
	again, work, err := w.Soon(t.Context())
	require.NoError(t, err)
	require.Nil(t, work)
	require.Same(t, known, again)
}
