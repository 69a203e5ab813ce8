package netset

import (
	"cmp"
	"net/netip"
	"slices"
	"sort"
)

// Finder tells which of many sets share addresses with one, without asking each of them. It does not change.
type Finder struct {
	spans []owned // by where they begin
	ends  []netip.Addr
}

type owned struct {
	Span
	set int
}

// NewFinder prepares sets, which are called by their numbers.
func NewFinder(sets []Addrs) *Finder {
	f := &Finder{}
	for i, a := range sets {
		for _, s := range a {
			f.spans = append(f.spans, owned{s, i})
		}
	}
	slices.SortFunc(f.spans, func(a, b owned) int { return cmp.Or(a.From.Compare(b.From), cmp.Compare(a.set, b.set)) })
	f.ends = make([]netip.Addr, len(f.spans))
	for i, s := range f.spans {
		if f.ends[i] = s.To; i > 0 && f.ends[i-1].Compare(s.To) > 0 {
			f.ends[i] = f.ends[i-1] // the last address of all that begin before
		}
	}
	return f
}

// Touched are the numbers of the sets that share an address with a, ascending.
func (f *Finder) Touched(a Addrs) []int {
	var out []int
	for _, s := range a {
		behind := sort.Search(len(f.spans), func(i int) bool { return f.spans[i].From.Compare(s.To) > 0 })
		for i := behind - 1; i >= 0 && f.ends[i].Compare(s.From) >= 0; i-- {
			if f.spans[i].To.Compare(s.From) >= 0 {
				out = append(out, f.spans[i].set)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}
