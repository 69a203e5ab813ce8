package check

import (
	"slices"
	"strings"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
)

// references finds names of what does not exist or is not clear, and objects that nothing uses.
func (c *checker) references() {
	names := c.objects()
	type object struct{ kind, name string }
	used := map[object]bool{} // of each there is, whether something names it
	for kind, list := range names {
		for _, name := range list {
			used[object{kind, name}] = false
		}
	}
	for _, r := range c.p.Mentions() {
		found := false
		for _, k := range r.Kinds {
			if _, exists := used[object{k, r.Word}]; exists {
				used[object{k, r.Word}], found = true, true
			}
		}
		if !found && !plan.Literal(r.Kinds, r.Word) {
			c.missing(r, names)
		}
	}
	for _, s := range c.p.Services {
		for i, port := range s.Ports {
			if _, err := netset.ParseServices(port); err != nil {
				c.add(Stop, "malformed-service", at("services/"+s.Name+"/ports", i),
					"write it as tcp/443, udp/6000-6010, ping, icmp/echo or proto/47", "%v", err)
			}
		}
		if len(c.n.ServiceSet([]string{s.Name})) == 0 {
			c.add(Stop, "service-empty", "services/"+s.Name, "give it ports, or include a service that has some",
				"service %s holds no port: a rule for it permits nothing", s.Name)
		}
	}
	c.users()
	c.ambiguous(names)
	for _, kind := range []string{"zones", "host-groups", "services", "hours", "pools", "groups", "authorities", "tunnels"} {
		for _, name := range names[kind] {
			if !used[object{kind, name}] {
				c.add(Note, "unused", kind+"/"+name, "remove it, or use it", "nothing uses %s %s", plan.One(kind), name)
				c.mend("remove", kind+"/"+name, "")
			}
		}
	}
	for _, g := range c.p.HostGroups {
		if set, _ := c.n.Destination(g.Name); len(set) == 0 {
			c.add(Stop, "host-group-empty", "host-groups/"+g.Name+"/members", "name a host, network or address",
				"host group %s holds no address", g.Name)
		}
	}
}

// objects is the names of the plan's objects by kind.
func (c *checker) objects() map[string][]string {
	kinds, lists := plan.Objects(*c.p)
	out := map[string][]string{}
	for _, k := range kinds {
		for i := range lists[k].Len() {
			out[k] = append(out[k], lists[k].Index(i).FieldByName("Name").String())
		}
	}
	return out
}

func (c *checker) missing(r plan.Mention, names map[string][]string) {
	var kinds, all []string
	for _, k := range r.Kinds {
		if len(names[k]) > 0 || !slices.Contains([]string{plan.Internet, plan.Any, plan.Itself, "literal"}, k) {
			kinds, all = append(kinds, plan.One(k)), append(all, names[k]...)
		}
	}
	kind := strings.Join(kinds, " or ")
	if len(kinds) > 2 {
		kind = "network, host or other destination"
	}
	fix := "make " + kind + " " + r.Word + ", or name one that exists"
	if slices.Contains(r.Kinds, "services") {
		fix = "make service " + r.Word + ", or write it as tcp/443, udp/53, ping or any"
	}
	near := nearest(r.Word, all)
	if near != "" {
		fix = "write " + near + "; or " + fix
	}
	c.add(Stop, "missing-reference", r.Path, fix, "there is no %s %q: whatever depends on this does not work", kind, r.Word)
	if near != "" {
		c.mend("set", r.Path, near)
	}
}

// users finds expectations and reservations for users who do not exist.
func (c *checker) users() {
	known := map[string]bool{}
	for _, p := range c.People {
		known[p.User] = true
	}
	for _, e := range c.p.Expectations {
		for i, u := range e.Users {
			path := at("expectations/"+e.Name+"/users", i)
			if !known[u] {
				c.add(Stop, "missing-reference", path, "add the user, or name one that exists",
					"there is no user %q: whatever depends on this does not work", u)
				continue
			}
			c.add(Note, "user-alone", path, "name a group, so that it holds for whoever comes after",
				"expectation %s is about user %s alone", e.Name, u)
		}
	}
	for _, p := range c.p.Pools {
		for i, r := range p.Reserved {
			if !known[r.User] {
				c.add(Warn, "reserved-for-nobody", at("pools/"+p.Name+"/reserved", i)+"/user",
					"add the user, or give the address to somebody else", "there is no user %q: %s is kept for nobody", r.User, r.Address)
			}
		}
	}
}

// ambiguous finds a name under which two destinations can be meant.
func (c *checker) ambiguous(names map[string][]string) {
	first := map[string]string{}
	for _, kind := range []string{"networks", "hosts", "zones", "host-groups"} {
		for _, name := range names[kind] {
			if other, twice := first[name]; twice {
				c.add(Stop, "ambiguous-name", kind+"/"+name+"/name", "give one of them another name",
					"%s and %s are both called %s: which one a rule means is unclear", plan.One(other), plan.One(kind), name)
			} else {
				first[name] = kind
			}
		}
	}
}

// nearest is the one name that is so like the word that a slip of the hand explains the difference; empty if none or several are.
func nearest(word string, names []string) string {
	best, distance, several := "", 3, false
	for _, n := range names {
		if n == best {
			continue
		}
		switch d := Slips(word, n); {
		case d < distance:
			best, distance, several = n, d, false
		case d == distance:
			several = true
		}
	}
	if several || distance*3 > len(word) {
		return ""
	}
	return best
}

// Slips counts the letters to insert, leave out, replace or swap with their neighbour to turn one word into the other.
func Slips(a, b string) int {
	if d := len(a) - len(b); d > 2 || d < -2 {
		return 3
	}
	rows := make([][]int, len(a)+1)
	for i := range rows {
		rows[i] = make([]int, len(b)+1)
		for j := range rows[i] {
			switch {
			case i == 0 || j == 0:
				rows[i][j] = i + j
			default:
				cost := 1
				if a[i-1] == b[j-1] {
					cost = 0
				}
				rows[i][j] = min(rows[i-1][j]+1, rows[i][j-1]+1, rows[i-1][j-1]+cost)
				if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
					rows[i][j] = min(rows[i][j], rows[i-2][j-2]+1)
				}
			}
		}
	}
	return rows[len(a)][len(b)]
}
