package reach

import (
	"fmt"
	"slices"

	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/site"
)

// Dependence is how much depends on one setting: what would be otherwise without it.
type Dependence struct {
	Setting string   `json:"setting"`
	Classes []string `json:"classes" nullable:"false" doc:"Classes of people who would gain or lose reach, with answers or without."`
	Users   int      `json:"users" doc:"How many people that is."`
	Fails   []string `json:"fails" nullable:"false" doc:"Expectations that hold, and would no longer."`
	Idle    bool     `json:"idle,omitempty" doc:"Nothing depends on it."`
}

// without is a plan without one of its settings.
type without struct {
	setting string
	plan    func() plan.Plan
}

// Depending takes out one rule, NAT entry, route and split route after the other, and tells what would be otherwise: steps that may be done
// several at once.
type Depending struct {
	known *Known
	all   []without
	out   []*Dependence
}

// Depending prepares it. only may be nil: all of them.
func (k *Known) Depending(only func(setting string) bool) *Depending {
	d := &Depending{known: k}
	for _, w := range settingsOf(k.Model.Plan) {
		if only == nil || only(w.setting) {
			d.all = append(d.all, w)
		}
	}
	d.out = make([]*Dependence, len(d.all))
	return d
}

// Steps is one for each setting.
func (d *Depending) Steps() int { return len(d.all) }

// Do works a plan out without one setting; each once.
func (d *Depending) Do(i int) {
	p := d.all[i].plan()
	if m, err := site.Compile(&p, d.known.Model.Gateway.Name); err == nil {
		out := d.known.compare(d.all[i].setting, d.known.Again(m, d.known.people))
		d.out[i] = &out
	}
}

// Dependences are the outcome, once every step is done.
func (d *Depending) Dependences() []Dependence {
	out := []Dependence{}
	for _, one := range d.out {
		if one != nil {
			out = append(out, *one)
		}
	}
	return out
}

func settingsOf(p *plan.Plan) (out []without) {
	for i, r := range p.Rules {
		if !r.Off {
			out = append(out, without{"rules/" + r.Name, func() plan.Plan { q := *p; q.Rules = less(p.Rules, i); return q }})
		}
	}
	for i, t := range p.NAT {
		if !t.Off {
			out = append(out, without{"nat/" + t.Name, func() plan.Plan { q := *p; q.NAT = less(p.NAT, i); return q }})
		}
	}
	for i, g := range p.Gateways {
		for k := range g.Routes {
			out = append(out, without{fmt.Sprintf("gateways/%s/routes/%d", g.Name, k), func() plan.Plan {
				q := *p
				q.Gateways = slices.Clone(p.Gateways)
				q.Gateways[i].Routes = less(g.Routes, k)
				return q
			}})
		}
	}
	for i, s := range p.Passages {
		for k := range s.Routes.Split {
			if s.Off || s.Routes.Full {
				continue
			}
			out = append(out, without{fmt.Sprintf("passages/%s/routes/split/%d", s.Name, k), func() plan.Plan {
				q := *p
				q.Passages = slices.Clone(p.Passages)
				q.Passages[i].Routes.Split = less(s.Routes.Split, k)
				return q
			}})
		}
	}
	return out
}

// less is a list without one item.
func less[T any](list []T, i int) []T { return slices.Delete(slices.Clone(list), i, i+1) }

// compare tells what is otherwise in another version of what is known.
func (k *Known) compare(setting string, o *Known) Dependence {
	d := Dependence{Setting: setting, Classes: []string{}, Fails: []string{}}
	for i, c := range o.Classes {
		a, b := k.Reaches[i], o.Reaches[i]
		if takenOver(a, b) || Everywhere(a.Enforced).Equal(Everywhere(b.Enforced)) && Always(a.Full).Equal(Always(b.Full)) &&
			Everywhere(a.InEnforced).Equal(Everywhere(b.InEnforced)) && Always(a.InFull).Equal(Always(b.InFull)) {
			continue
		}
		d.Classes = append(d.Classes, c.Name())
		d.Users += len(c.Users)
	}
	held := map[[2]string]bool{}
	for _, r := range k.Proof.Results {
		held[[2]string{r.Expectation, r.Class}] = r.Outcome == Holds
	}
	for _, r := range o.Proof.Results {
		if r.Outcome != Holds && held[[2]string{r.Expectation, r.Class}] && !slices.Contains(d.Fails, r.Expectation) {
			d.Fails = append(d.Fails, r.Expectation)
		}
	}
	d.Idle = len(d.Classes) == 0 && len(d.Fails) == 0
	return d
}
