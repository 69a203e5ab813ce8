package check

import (
	"slices"
	"strings"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/site"
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
		if !holds && !c.elsewhere() { // who is in a group elsewhere is seen when they come
			c.add(Warn, "nobody-admitted", path, "put a user into one of the groups, or switch the passage off",
				"no user is in a group of passage %s (%s): nobody can come in by it", p.Name, quoted(p.Groups))
			if len(p.Groups) > 0 {
				c.todo(AddPerson, p.Groups[0], "")
			}
		}
		for i, g := range p.Groups {
			if first, twice := admitted[g]; twice {
				c.add(Note, "admitted-twice", at(path, i), "leave the group in one passage",
					"group %s is admitted by passages %s and %s; the first, %s, takes its people", g, first, p.Name, first)
			} else {
				admitted[g] = p.Name
			}
		}
	}
	for _, who := range c.People {
		if slices.ContainsFunc(c.Administrators, func(a Administrator) bool { return a.Name == who.User }) {
			c.add(Warn, "administrator-comes-in", "passages", "give the administrator another name for coming in, with another password", "user %s has the name of an administrator of this service: whoever learns one password tries the other", who.User)
		}
	}
	if c.p.Approve && c.Administrators != nil && len(c.Administrators) < 2 && len(c.p.Keepers()) == 0 {
		c.add(Warn, "approval-by-nobody", "approve-commits", "add another administrator first: yl administrators add NAME --role administrator",
			"a commit will need the approval of another administrator, and there is one: nothing could be committed after this")
	}
	c.keyless()
	c.keptOtherwise()
	c.oneForAll()
	for i, class := range c.classes {
		switch {
		case len(class.Users) == 0: // of whom nobody was seen yet
		case class.Passage == nil:
			c.add(Note, "no-passage", "passages", "add a group of theirs to a passage, if they are meant to connect",
				"%s cannot connect: no passage admits %s", quoted(class.Users), class.Name())
		case len(c.enforced[i]) == 0:
			c.add(Stop, "reaches-nothing", "passages/"+class.Passage.Name+"/groups", "add a rule for one of these groups",
				"%s can connect and reach nothing: no rule permits anything to %s", quoted(class.Users), class.Name())
		}
	}
}

// elsewhere tells whether people are kept in a source too.
func (c *checker) elsewhere() bool {
	return slices.ContainsFunc(c.p.Sources, func(s plan.Source) bool { return !s.Off })
}

// keptOtherwise finds people who can only log in by an answer to a challenge, and whose password is kept without what that takes.
func (c *checker) keptOtherwise() {
	of := map[*plan.Passage][]string{}
	for _, who := range c.People {
		if p := c.n.PassageOf(who.Groups); who.Unchallenged && p != nil {
			of[p] = append(of[p], who.User)
		}
	}
	for i := range c.p.Passages {
		p := &c.p.Passages[i]
		if names := of[p]; len(names) > 0 && c.challengedAlone(p) {
			c.add(Warn, "password-kept-otherwise", "passages/"+p.Name+"/tunnels",
				"send each a link by which they choose another: yl users password-link "+names[0]+
					"; or give a tunnel also-login: [eap-ttls], by which they log in once",
				"%s cannot come in: passage %s has answers to a challenge judged alone, and the password is kept otherwise, for it was set when no plan had need of that",
				few(names), p.Name)
		}
	}
}

func (c *checker) challengedAlone(p *plan.Passage) bool {
	for _, name := range p.Tunnels {
		t := c.n.Tunnels[name]
		if t != nil && !t.Off && slices.ContainsFunc(t.Logins(), func(way string) bool { return !plan.Challenge(way) }) {
			return false
		}
	}
	return c.p.Challenges(p)
}

// keyless finds people who lack a key that every tunnel of their passage wants of them, to log in by or to mix in.
func (c *checker) keyless() {
	users, passages := map[string][]string{}, []*site.Passage{}
	for _, class := range c.classes {
		if p := class.Passage; p != nil {
			if users[p.Name] == nil {
				passages = append(passages, p)
			}
			users[p.Name] = append(users[p.Name], class.Users...)
		}
	}
	for _, p := range passages {
		var tunnels []*plan.Tunnel
		for _, name := range p.Passage.Tunnels {
			if t := c.n.Tunnels[name]; t != nil && !t.Off {
				tunnels = append(tunnels, t)
			}
		}
		path := "passages/" + p.Name + "/tunnels"
		wants := keysWanted(tunnels)
		if without := c.lacking(users[p.Name], wants); len(without) > 0 {
			c.add(Warn, "no-key", path,
				"give each of them the key of a device (yl users keys add, yl users shared-keys make), or a tunnel that takes passwords",
				"%s cannot log in: passage %s has tunnels that want a %s, and they have none", few(without), p.Name,
				strings.Join(wants, " or a "))
		}
		if len(tunnels) == 0 || slices.ContainsFunc(tunnels, func(t *plan.Tunnel) bool { return t.IKEv2().MixedIn != plan.MixedInDemand }) {
			continue
		}
		if without := c.lacking(users[p.Name], []string{mixedIn}); len(without) > 0 {
			c.add(Warn, "no-mixed-in-key", path,
				"make each of them one for yl dial (yl users shared-keys make USER --mixed-in), or say mixed-in-key: accept",
				"%s cannot connect: passage %s has only tunnels that demand a mixed-in key, and they have none", few(without), p.Name)
		}
	}
}

// keysWanted are the kinds of keys of which people need one to come in by some of the tunnels; none: one of them takes a password.
func keysWanted(tunnels []*plan.Tunnel) (out []string) {
	for _, t := range tunnels {
		if len(t.Authorities) > 0 { // others give them some, and nobody knows to whom
			return nil
		}
		switch t.Login {
		case plan.LoginCertificate, plan.LoginPublicKey, plan.LoginSharedKey:
			out = append(out, t.Login)
		case plan.LoginBoth:
			out = append(out, plan.LoginCertificate)
		case plan.LoginEAPTLS:
			if len(t.Also) > 0 {
				return nil
			}
			out = append(out, plan.LoginCertificate)
		default:
			return nil
		}
	}
	return out
}

// lacking are those of some users who have none of some kinds of keys; nobody where none is wanted.
func (c *checker) lacking(users, kinds []string) (out []string) {
	for _, who := range c.People {
		has := slices.ContainsFunc(who.Keys, func(k string) bool { return slices.Contains(kinds, k) })
		if len(kinds) > 0 && !has && slices.Contains(users, who.User) {
			out = append(out, who.User)
		}
	}
	return out
}

// mixedIn is the word for keys that are mixed in, among the kinds of keys that a person has.
const mixedIn = "mixed-in"

// oneForAll finds a single class that holds everybody and reaches all of an inside network.
func (c *checker) oneForAll() {
	if len(c.classes) != 1 || len(c.People) < 4 || c.classes[0].Passage == nil {
		return
	}
	var families netset.Addrs
	for _, family := range []netset.Addrs{netset.All4, netset.All6} {
		if c.classes[0].Passage.Pool.Overlaps(family) {
			families = families.Union(family)
		}
	}
	for _, n := range c.p.Networks {
		all := netset.Of(netset.OfPrefixes(n.Prefixes...).Intersect(families).Subtract(c.m.NotMeant()),
			netset.AnyService)
		if c.enforced[0].Covers(all.Intersect(site.Opening())) {
			c.add(Warn, "one-group-for-all", "passages/"+c.classes[0].Passage.Name+"/groups",
				"make a group for each kind of work, and rules for what each needs",
				"all %d users are in one group, which reaches everything in network %s: one lost password opens it all", len(c.People), n.Name)
			return
		}
	}
}
