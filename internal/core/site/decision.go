package site

import (
	"crypto/sha256"
	"encoding/binary"
	"net/netip"
	"slices"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
)

// decision is the rules of one side of a class, laid out by destination and then by service, so that a new flow's first packet asks two
// searches instead of every rule. It says what asking every rule says.
type decision struct{ stretches []stretch }

// stretch is destinations about which the same rules are.
type stretch struct {
	netset.Span
	line *line
}

// line is what rules say of each service there.
type line struct{ refusals, permits told }

// told is rules of one action. Those that have no hours are laid out: of each service the first; those that have are few, and asked.
type told struct {
	always []piece // sorted, disjoint
	houred []*Rule // in their order
	parts  []netset.Services
}

type piece struct {
	netset.Range
	rule *Rule
}

// mostLaidOut bounds what laying out may take, in rules about a stretch and pieces of its services, all of them together: some 100 ms and
// 100 MB at the most. Where thousands of rules are about everything and thousands about something, each rule is asked instead.
const mostLaidOut = 1 << 22

// layOut makes the decision of a side; nil: it would be too large.
func (s *side) layOut() *decision {
	type slab struct {
		netset.Slab
		rule *Rule
	}
	var all []slab
	for _, rules := range [][]*Rule{s.refusals, s.permits} {
		for _, r := range rules {
			for _, x := range r.Traffic {
				all = append(all, slab{x, r})
			}
		}
	}
	slices.SortStableFunc(all, func(a, b slab) int { return a.Dst.From.Compare(b.Dst.From) })
	d := &decision{}
	known := map[[sha256.Size]byte]*line{}
	var open []slab // about what lies at a place, by rule
	var list []byte
	took := 0
	// what is open lies from at until the next place where a slab begins or ends
	for next := 0; next < len(all) || len(open) > 0; {
		var at netip.Addr
		if len(open) == 0 {
			at = all[next].Dst.From
		} else {
			at = d.stretches[len(d.stretches)-1].To.Next()
		}
		open = slices.DeleteFunc(open, func(x slab) bool { return !at.IsValid() || x.Dst.To.Less(at) || x.Dst.To.Is4() != at.Is4() })
		for ; next < len(all) && all[next].Dst.From == at; next++ {
			i, _ := slices.BinarySearchFunc(open, all[next].rule.Index, func(x slab, index int) int { return x.rule.Index - index })
			open = slices.Insert(open, i, all[next])
		}
		if len(open) == 0 {
			continue
		}
		end := open[0].Dst.To
		list = list[:0]
		for _, x := range open {
			end = earlier(end, x.Dst.To)
			list = binary.NativeEndian.AppendUint32(list, uint32(x.rule.Index))
			list = binary.NativeEndian.AppendUint32(list, uint32(len(x.Svc)))
			for _, r := range x.Svc {
				list = binary.NativeEndian.AppendUint64(list, uint64(r.From)<<32|uint64(r.To))
			}
		}
		if took += len(list) / 8; took > mostLaidOut {
			return nil
		}
		if next < len(all) && all[next].Dst.From.Is4() == at.Is4() {
			end = earlier(end, all[next].Dst.From.Prev())
		}
		key := sha256.Sum256(list)
		l := known[key]
		if l == nil {
			l = &line{}
			for _, x := range open {
				if x.rule.Action == plan.Refuse {
					l.refusals.add(x.rule, x.Svc)
				} else {
					l.permits.add(x.rule, x.Svc)
				}
			}
			l.refusals.finish()
			l.permits.finish()
			known[key] = l
		}
		d.stretches = append(d.stretches, stretch{netset.Span{From: at, To: end}, l})
	}
	return d
}

func earlier(a, b netip.Addr) netip.Addr {
	if b.Less(a) {
		return b
	}
	return a
}

// add adds a rule after those before it.
func (t *told) add(r *Rule, svc netset.Services) {
	if r.Rule.Hours != "" {
		t.houred = append(t.houred, r)
		t.parts = append(t.parts, svc)
		return
	}
	for _, x := range svc {
		t.always = append(t.always, piece{x, r})
	}
}

// finish leaves of each service the first rule, as pieces that are disjoint.
func (t *told) finish() {
	if len(t.always) < 2 {
		return
	}
	// The places where something begins or ends, and at each the first of the rules that are open there.
	ends := make([]piece, len(t.always))
	copy(ends, t.always)
	slices.SortFunc(t.always, func(a, b piece) int { return int(a.From) - int(b.From) })
	slices.SortFunc(ends, func(a, b piece) int { return int(a.To) - int(b.To) })
	var out []piece
	var open []*Rule // by their order
	from := netset.Point(0)
	push := func(to netset.Point) {
		if len(open) == 0 || to < from {
			return
		}
		if n := len(out); n > 0 && out[n-1].rule == open[0] && out[n-1].To+1 == from {
			out[n-1].To = to
			return
		}
		out = append(out, piece{netset.Range{From: from, To: to}, open[0]})
	}
	find := func(r *Rule) int {
		i, _ := slices.BinarySearchFunc(open, r.Index, func(x *Rule, index int) int { return x.Index - index })
		return i
	}
	for b, e := 0, 0; e < len(ends); {
		if b < len(t.always) && t.always[b].From <= ends[e].To {
			x := t.always[b]
			if x.From > 0 {
				push(x.From - 1)
			}
			from = max(from, x.From)
			open = slices.Insert(open, find(x.rule), x.rule)
			b++
			continue
		}
		push(ends[e].To)
		from = ends[e].To + 1
		i := find(ends[e].rule)
		open = slices.Delete(open, i, i+1)
		e++
	}
	t.always = slices.Clip(out)
}

// first is the first rule that acts then and covers a service.
func (t *told) first(service netset.Point, when When) *Rule {
	var found *Rule
	i, exact := slices.BinarySearchFunc(t.always, service, func(x piece, p netset.Point) int { return int(x.From) - int(p) })
	if !exact {
		i--
	}
	if i >= 0 && t.always[i].To >= service {
		found = t.always[i].rule
	}
	for k, r := range t.houred {
		if found != nil && r.Index > found.Index {
			break
		}
		if t.parts[k].Contains(service) && r.acts(when) {
			return r
		}
	}
	return found
}

// at is what rules say of a destination; nil: none is about it.
func (d *decision) at(a netip.Addr) *line {
	i, exact := slices.BinarySearchFunc(d.stretches, a, func(x stretch, a netip.Addr) int { return x.From.Compare(a) })
	if !exact {
		i--
	}
	if i < 0 || d.stretches[i].To.Less(a) || d.stretches[i].To.Is4() != a.Is4() {
		return nil
	}
	return d.stretches[i].line
}

// Ready lays the class's rules out, so that packets do not wait for it. It takes long, and does nothing a second time.
func (c *Class) Ready() *Class {
	c.laid.Do(func() {
		for _, s := range []*side{&c.outward, &c.inward} {
			if d := s.layOut(); d != nil {
				s.laid.Store(d)
			}
		}
	})
	return c
}

// decide is what asking each rule of the side says.
func (d *decision) decide(peer netip.Addr, service netset.Point, when When) (*Rule, bool, Ref) {
	l := d.at(peer)
	if l == nil {
		return nil, false, Ref{List: "rules"}
	}
	if r := l.refusals.first(service, when); r != nil {
		return r, false, Ref{List: "rules", Name: r.Name}
	}
	if r := l.permits.first(service, when); r != nil {
		return r, true, Ref{List: "rules", Name: r.Name}
	}
	for k, r := range l.permits.houred { // at another hour
		if l.permits.parts[k].Contains(service) {
			return nil, false, Ref{List: "rules", Name: r.Name, Field: "hours"}
		}
	}
	return nil, false, Ref{List: "rules"}
}
