package judge

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/site"
)

// Whoever is asked about, seen before or not, and whatever classes a source makes possible: what is said that they reach is what the board
// shows for people like them, and a journey of theirs there arrives.
func TestPersonAndBoardAgree(t *testing.T) {
	var strangers, reached int
	rapid.Check(t, func(t *rapid.T) {
		p := randomPlan(t)
		p.Sources = []plan.Source{{Name: "directory", Kind: plan.KindLDAP, Off: !likely(t, "source"), Own: &plan.LDAP{}}}
		for _, g := range []string{"a", "b", "c"} {
			p.Groups = append(p.Groups, plan.Group{Name: g})
		}
		m, err := site.Compile(p, "gw")
		require.NoError(t, err)
		var people []reach.Person
		draw := func(name string) reach.Person {
			return reach.Person{User: name, Groups: some(t, []string{"a", "b", "c"}, 3, "groups of "+name)}
		}
		for i := range rapid.IntRange(0, 3).Draw(t, "people") {
			people = append(people, draw(fmt.Sprintf("user%d", i)))
		}
		known := reach.Compute(m, people)
		board := known.Board()
		people = append(people, draw("stranger"))
		for _, who := range people {
			in, i := known.Somebody(who)
			c := in.Classes[i]
			require.Equal(t, m.Class(slices.Sorted(slices.Values(who.Groups))).Groups, c.Groups)
			if n, seen := known.Named(who.User); seen {
				require.Equal(t, n, i)
				require.Same(t, known, in)
			}
			row := slices.IndexFunc(board.Rows, func(r reach.Row) bool { return r.Class == c.Name() })
			if row < 0 {
				require.NotSame(t, known, in)
				strangers++
				continue
			}
			var shown []reach.Reached
			for d, cell := range board.Rows[row].Cells {
				if cell.Computed != "" || cell.Passes != "" {
					shown = append(shown, reach.Reached{To: board.Destinations[d].Name, Services: cell.Computed, Passes: cell.Passes})
				}
			}
			require.Equal(t, shown, in.Reached(i), "%+v", who)
			if c.Passage == nil {
				require.Empty(t, shown)
				continue
			}
			for _, slab := range reach.Always(in.Reaches[i].Full) {
				dst := slab.Dst.From
				for _, src := range addresses(c.Passage.Pool, dst.Is4()) {
					k := site.Packet{Src: src, Dst: dst, Service: example(slab.Svc)}
					j := m.Travel(m.Class(who.Groups), k, netset.OfAddrs(src), site.When{})
					require.True(t, j.Arrives, "%s from %s: %+v", dst, src, j.LostAt())
					reached++
				}
			}
		}
	})
	require.Positive(t, strangers)
	require.Positive(t, reached)
}

func example(s netset.Services) netset.Point {
	p, _ := s.Example()
	return p
}
