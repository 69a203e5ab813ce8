package check

import (
	"slices"
)

// people finds passages without people, and people without a passage.
func (c *checker) people() {
	admitted := map[string]string{}
	for _, p := range c.p.Passages {
		if p.Off {
			continue
		}
		path := "passages/" + p.Name + "/groups"
		holds := slices.ContainsFunc(c.People, func(who reachPerson) bool {
			return slices.ContainsFunc(who.Groups, func(g string) bool { return slices.Contains(p.Groups, g) })
		})
		if !holds {
			c.add(Stop, "nobody-admitted", path, "put a user into one of the groups, or switch the passage off", "no user is in a group of passage %s (%s): nobody can come in by it", p.Name, quoted(p.Groups))
		}
		for i, g := range p.Groups {
			if first, twice := admitted[g]; twice {
				c.add(Note, "admitted-twice", at(path, i), "leave the group in one passage", "group %s is admitted by passages %s and %s; the first, %s, takes its people", g, first, p.Name, first)
			} else {
				admitted[g] = p.Name
			}
		}
	}
	for i, class := range c.classes {
		switch {
		case class.Passage == nil:
			c.add(Note, "no-passage", "passages", "add a group of theirs to a passage, if they are meant to connect", "%s cannot connect: no passage admits %s", quoted(class.Users), class.Name())
		case len(c.enforced[i]) == 0:
			c.add(Stop, "reaches-nothing", "passages/"+class.Passage.Name+"/groups", "add a rule for one of these groups", "%s can connect and reach nothing: no rule permits anything to %s", quoted(class.Users), class.Name())
		}
	}
}
