package reach

import (
	"reflect"
	"slices"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
)

// Unjudged is an expectation that a change touches, and of which no trial sees anything.
type Unjudged struct {
	Expectation string   `json:"expectation"`
	Classes     []string `json:"classes" nullable:"false" doc:"Whom it is about, as far as nothing is seen of them."`
	Why         string   `json:"why"`
}

// Why trials see nothing of an expectation.
const (
	fromInside = "it is opened from inside, and trials are made as remote users"
	namesNone  = "it names no host or address that can be asked"
	notTried   = "nobody of this class is tried"
)

// Unjudged are the expectations that a change from one plan to another touches, and that no trial can judge. Touched is what has other
// reach among its destinations, by source, destination or service, or is expected anew. only are the classes that are tried; none: all.
func (k *Known) Unjudged(after *Known, only []string) []Unjudged {
	out := []Unjudged{}
	byName := map[string][]*plan.Expectation{}
	for _, e := range allOf(after.Model.Plan) {
		byName[e.Name] = append(byName[e.Name], e)
	}
	index := map[string]int{}
	for i, c := range k.Classes {
		index[c.Name()] = i
	}
	kept := map[string]bool{} // expectations that the plan had already, as they are
	for i := range k.Model.Plan.Expectations {
		o := &k.Model.Plan.Expectations[i]
		kept[o.Name] = slices.ContainsFunc(byName[o.Name], func(e *plan.Expectation) bool { return reflect.DeepEqual(o, e) })
	}
	for i, c := range after.Classes {
		var was Reach
		if at, known := index[c.Name()]; known {
			was = k.Reaches[at]
		}
		var tried []Trial
		for _, e := range expectations(after.Model.Plan, after.among[i]) {
			if kept[e.Name] && takenOver(was, after.Reaches[i]) {
				continue
			}
			to := netset.Everywhere
			if e.Must != plan.NothingElse {
				to = after.Model.Names.Destinations(e.Peers())
			}
			if kept[e.Name] && !differs(was, after.Reaches[i], e.Inward(), to) {
				continue
			}
			why := ""
			switch {
			case e.Inward():
				why = fromInside
			case len(only) > 0 && !slices.Contains(only, c.Name()):
				why = notTried
			default:
				if tried == nil {
					tried = Trials(after.Model, c, after.Reaches[i])
				}
				services := after.Model.Names.ServiceSet(e.Services)
				if !slices.ContainsFunc(tried, func(t Trial) bool {
					point, err := netset.ParseServices(t.Service)
					return err == nil && !t.Search && t.Want == (e.Must == plan.Reach) && to.Contains(t.Dst) &&
						(e.Must == plan.NothingElse || len(point.Intersect(services)) > 0)
				}) {
					why = namesNone
				}
			}
			if why == "" {
				continue
			}
			same := func(u Unjudged) bool { return u.Expectation == e.Name && u.Why == why }
			if at := slices.IndexFunc(out, same); at >= 0 {
				out[at].Classes = append(out[at].Classes, c.Name())
			} else {
				out = append(out, Unjudged{e.Name, []string{c.Name()}, why})
			}
		}
	}
	return out
}

// differs tells whether a reach is another one towards some places: also where the same is reached from other addresses.
func differs(a, b Reach, inward bool, to netset.Addrs) bool {
	sides := func(r Reach) [][]Part {
		if inward {
			return [][]Part{r.InFull, r.InEnforced}
		}
		return [][]Part{r.Full, r.Enforced}
	}
	towards := func(parts []Part) (out []Part) {
		for _, p := range parts {
			if p.Traffic = p.Traffic.To(to); len(p.Traffic) > 0 {
				out = append(out, p)
			}
		}
		return out
	}
	return !slices.EqualFunc(sides(a), sides(b), func(x, y []Part) bool {
		return slices.EqualFunc(towards(x), towards(y), func(p, q Part) bool {
			return p.Src.Equal(q.Src) && p.Traffic.Equal(q.Traffic)
		})
	})
}
