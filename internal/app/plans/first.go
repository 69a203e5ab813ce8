package plans

import (
	"strings"

	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/site"
)

// ComesIn is how the people of one group come in, and what that gives them.
type ComesIn struct {
	Group     string       `json:"group"`
	Passage   string       `json:"passage"`
	By        string       `json:"by" doc:"Tunnels, in order of preference."`
	Addresses string       `json:"addresses" doc:"The pool, and what it leases from."`
	Names     string       `json:"names" doc:"Name servers and search domains."`
	Routes    string       `json:"routes" doc:"What their devices send into the tunnel."`
	Reaches   []reach.Line `json:"reaches" nullable:"false" doc:"Computed, as the gateway enforces it."`
}

// comesIn tells of each group that a passage admits, in the order of the passages.
func comesIn(m *site.Model) []ComesIn {
	p, _ := m.Plan.Settle()
	out, taken := []ComesIn{}, map[string]bool{}
	var somebody []reach.Person // one of each group: nobody may be in it yet
	for _, g := range p.Groups {
		somebody = append(somebody, reach.Person{User: g.Name, Groups: []string{g.Name}})
	}
	reaches := map[string][]reach.Line{}
	for _, c := range reach.ChangesBetween(nil, reach.Compute(m, somebody)) {
		for _, g := range c.Users {
			reaches[g] = c.Gains
		}
	}
	for _, x := range p.Passages {
		for _, g := range x.Groups {
			if x.Off || taken[g] {
				continue
			}
			taken[g] = true
			c := ComesIn{
				Group: g, Passage: x.Name, By: strings.Join(x.Tunnels, ", "), Addresses: "none", Names: "none",
				Routes: strings.Join(x.Routes.Split, ", "), Reaches: append([]reach.Line{}, reaches[g]...),
			}
			if pool := m.Names.Pools[x.Pool]; pool != nil {
				c.Addresses = pool.Name + " (" + pool.Space().String() + ")"
			}
			var names []string
			for _, a := range x.DNS.Servers {
				names = append(names, a.String())
			}
			if len(names) > 0 {
				c.Names = strings.Join(names, ", ")
			}
			if len(x.DNS.Search) > 0 {
				c.Names += " for " + strings.Join(x.DNS.Search, ", ")
			}
			if x.Routes.Full {
				c.Routes = "everything"
			}
			out = append(out, c)
		}
	}
	return out
}
