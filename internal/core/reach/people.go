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
	Users []string
}

// Classes sorts people into classes, in the order of their groups' names.
func Classes(m *site.Model, people []Person) []Class {
	index := map[string]int{}
	var out []Class
	for _, p := range people {
		groups := p.Groups
		if !slices.IsSorted(groups) {
			groups = slices.Sorted(slices.Values(groups))
		}
		key := strings.Join(slices.Compact(groups), "\x00")
		i, seen := index[key]
		if !seen {
			i = len(out)
			index[key] = i
			out = append(out, Class{Class: m.Class(groups)})
		}
		out[i].Users = append(out[i].Users, p.User)
	}
	slices.SortFunc(out, func(a, b Class) int { return slices.Compare(a.Groups, b.Groups) })
	for _, c := range out {
		slices.Sort(c.Users)
	}
	return out
}
