package crowd

import (
	"net/netip"
	"time"
)

// Kept is what a guard knows of a name from a source, for somebody who keeps it through a restart.
type Kept struct {
	Name   string
	Source netip.Prefix
	Wrong  int       // 0: nothing went wrong lately
	Last   time.Time // of the wrong ones
	Until  time.Time
	Known  time.Time // when somebody got in so last; zero: nobody has
}

// Changed gives up to some number of what changed since it was asked last.
func (g *Guard) Changed(most int) (out []Kept) {
	for p := range g.changed {
		if len(out) == most {
			break
		}
		delete(g.changed, p)
		k := Kept{Name: p.name, Source: p.source, Known: g.known[p]}
		if had := g.pairs[p]; had != nil {
			k.Wrong, k.Last, k.Until = had.wrong, had.last, had.until
		}
		out = append(out, k)
	}
	return out
}

// Restore takes what was kept. It is for a guard that was asked nothing yet.
func (g *Guard) Restore(now time.Time, all []Kept) {
	g.begin(now)
	for _, k := range all {
		p := pair{k.Name, k.Source}
		if k.Wrong > 0 && now.Sub(k.Last) <= forgetAfter && len(g.pairs) < mostPairs {
			g.count(p, &guesses{wrong: k.Wrong, last: k.Last, until: k.Until})
		}
		if !k.Known.IsZero() && now.Sub(k.Known) <= knownFor && len(g.known) < mostKnown {
			g.known[p] = k.Known
		}
	}
}

func (g *Guard) begin(now time.Time) {
	if g.pairs == nil {
		g.pairs, g.known, g.changed = map[pair]*guesses{}, map[pair]time.Time{}, map[pair]bool{}
		g.names, g.froms, g.swept = map[netip.Prefix]int{}, map[string]int{}, now
	}
}

// count begins to count what goes wrong with a pair.
func (g *Guard) count(p pair, of *guesses) {
	g.pairs[p] = of
	g.names[p.source]++
	g.froms[p.name]++
}

// touched notes that a pair changed. What nobody takes is bounded as pairs are.
func (g *Guard) touched(p pair) {
	if g.changed != nil && len(g.changed) < mostKnown {
		g.changed[p] = true
	}
}
