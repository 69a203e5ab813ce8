package session

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/reason"
)

type nowhere struct{}

func (nowhere) Send(inside.Packet)      {}
func (nowhere) SendAll([]inside.Packet) {}
func (nowhere) Where() Where            { return Where{} }
func (nowhere) Missing() uint64         { return 0 }

// Sessions come, come up and end from everywhere at once, some of them twice and with addresses that others had: each ends once, and in
// the end
// the table holds nothing.
func TestTable(t *testing.T) {
	var table Table
	over := reason.Of(reason.TrialOver, nil)
	var ended sync.Map
	var wait sync.WaitGroup
	for w := range 8 {
		wait.Go(func() {
			r := rand.New(rand.NewPCG(uint64(w), 1))
			for i := range 400 {
				s := &Session{
					ID: uint64(w*1000 + i + 1), User: fmt.Sprint("u", r.IntN(5)), Passage: fmt.Sprint("p", r.IntN(2)),
					Addresses: []netip.Addr{netip.AddrFrom4([4]byte{10, 99, 0, byte(r.IntN(16))})},
				}
				if !table.Add(s) || table.Add(s) {
					t.Error("a session is added once")
				}
				up := r.IntN(4) > 0 && table.Up(s, nowhere{})
				for range 1 + r.IntN(2) {
					was, first := table.End(s, over)
					if _, before := ended.LoadOrStore(s.ID, true); before == first || first && (was == Up) != up {
						t.Errorf("ended as %v, first %v", was, first)
					}
				}
				if table.Up(s, nowhere{}) || table.Of(s.ID) != nil || table.At(s.Addresses[0]) == s {
					t.Error("what is over stays over")
				}
			}
		})
	}
	wait.Wait()
	require.Zero(t, table.Len())
	require.Empty(t, table.All())
	require.Empty(t, table.byAddress)
	require.Empty(t, table.byPerson)
	require.Empty(t, table.byPassage)
}

// The next holder of an address keeps it when the one before ends late.
func TestNextHolder(t *testing.T) {
	var table Table
	a := []netip.Addr{netip.MustParseAddr("10.99.0.5")}
	first, next := &Session{ID: 1, User: "wanda", Addresses: a}, &Session{ID: 2, User: "wendy", Addresses: a}
	for _, s := range []*Session{first, next} {
		require.True(t, table.Add(s))
		require.True(t, table.Up(s, nowhere{}))
	}
	table.End(first, reason.Of(reason.TrialOver, nil))
	require.Same(t, next, table.At(a[0]))
	require.Equal(t, []*Session{next}, table.Theirs("", "wendy"))
	id, err := ParseID(FormatID(next.ID))
	require.NoError(t, err)
	require.Equal(t, next.ID, id)
	_, err = ParseID("xyz")
	require.ErrorContains(t, err, "16 hexadecimal digits")
}
