package reach

import (
	"slices"
	"strings"

	"yellowlantern/internal/core/site"
)

// Person is a user with their effective groups.
type Person struct {
	User   string   `json:"user"`
	Groups []string `json:"groups" nullable:"false"`
	// Keys are the kinds of keys that they have: certificate, public-key.
	Keys []string `json:"keys,omitempty" nullable:"false"`
	// Factor is that they have a second factor.
	Factor bool `json:"factor,omitempty"`
	// Unchallenged is that their password is kept such that no answer to a challenge can be judged by it.
	Unchallenged bool `json:"unchallenged,omitempty"`
}

// Class is everybody with the same effective groups.
type Class struct {
	*site.Class
	Users []string // none: nobody of it was seen yet, and a source may have such people
}

// PassageName is the name of the passage that admits them; empty: none does.
func (c Class) PassageName() string { return passageName(c.Class) }

// Classes sorts people into classes, in the order of their groups' names. What the plan's sources make possible are classes too, by one
// group each: who is in several at once is seen when they come. Nobody lists a directory for it.
func Classes(m *site.Model, people []Person) []Class {
	index := map[string]int{}
	var out []Class
	for _, p := range people {
		groups := p.Groups
		if !ascending(groups) {
			groups = slices.Compact(slices.Sorted(slices.Values(groups))) // the person's own stay as they are
		}
		key := strings.Join(groups, "\x00")
		i, seen := index[key]
		if !seen {
			i = len(out)
			index[key] = i
			out = append(out, Class{Class: m.Class(groups)})
		}
		out[i].Users = append(out[i].Users, p.User)
	}
	for _, g := range possible(m) {
		if _, seen := index[g]; !seen {
			index[g] = len(out)
			out = append(out, Class{Class: m.Class([]string{g}), Users: []string{}})
		}
	}
	slices.SortFunc(out, func(a, b Class) int { return slices.Compare(a.Groups, b.Groups) })
	for _, c := range out {
		slices.Sort(c.Users)
	}
	return out
}

// ascending tells whether names are in their order, each once.
func ascending(names []string) bool {
	for i := range names[:max(0, len(names)-1)] {
		if names[i] >= names[i+1] {
			return false
		}
	}
	return true
}

// possible are the groups that people of a source may be in, and that a passage admits.
func possible(m *site.Model) (out []string) {
	for i := range m.Plan.Sources {
		if s := &m.Plan.Sources[i]; !s.Off {
			for _, g := range s.Possible(m.Plan.Groups) {
				if m.Names.PassageOf([]string{g}) != nil {
					out = append(out, g)
				}
			}
		}
	}
	return out
}
