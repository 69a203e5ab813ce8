package check

import (
	"net/mail"
	"slices"
	"strings"

	"yellowlantern/internal/core/plan"
)

// article is a role as one of them has it.
func article(role string) string {
	switch role {
	case "administrator", "operator", "auditor":
		return "an " + role
	}
	return "a " + role
}

const wholeRole = "administrator"

// administrators finds what keeps administrators of sources out, or the last one who could mend that.
func (c *checker) administrators() {
	keepers := c.p.Keepers()
	if len(keepers) == 0 {
		for path, said := range map[string]bool{"last-resort": c.p.LastResort != "", "alarm-to": len(c.p.AlarmTo) > 0} {
			if said {
				c.add(Note, "last-resort-unused", path, "leave it out, or say administrators",
					"administrators are the service's own: each of them signs in, and nobody is one of last resort")
				c.mend("remove", path, "")
			}
		}
		return
	}
	whole := false
	for _, a := range keepers {
		path := "administrators/" + a.Name
		whole = whole || a.Role == wholeRole
		if len(a.Groups) == 0 {
			c.add(Stop, "administrators-of-no-group", path+"/groups", "name a group of the source",
				"%s holds nobody: it names no group", a.Name)
		}
		if slices.Contains(a.Groups, "*") {
			c.add(Warn, "administrators-of-any-group", path+"/groups", "name the group of those who are meant",
				"whoever is in any group of source %s may sign in to this service, as %s", a.Source, a.Role)
		}
		if i := slices.IndexFunc(a.Groups, func(g string) bool { return g != "*" && !strings.Contains(g, "=") }); i >= 0 {
			c.add(Warn, "administrators-by-common-name", at(path+"/groups", i), "give its distinguished name, as yl sources try shows it",
				"%s is a common name: anyone who may create a group of that name anywhere in source %s makes people %s here", a.Groups[i], a.Source, article(a.Role))
		}
		s := c.n.Sources[a.Source]
		switch {
		case s == nil: // told as a name of nothing
		case s.Off:
			c.add(Stop, "administrators-source", path+"/source", "switch the source on",
				"source %s is switched off: no administrator of it signs in", s.Name)
			c.mend("remove", "sources/"+s.Name+"/off", "")
		case s.Kind != plan.KindLDAP || s.LDAP().Account == "":
			c.add(Stop, "administrators-source", path+"/source", "name a directory that has an account to look people up with",
				"source %s cannot be asked about people without their password: an administrator who is switched off there would go on", s.Name)
		}
	}
	if !whole {
		c.add(Warn, "administrators-none-whole", "administrators", "give one of them the role administrator",
			"of the administrators of sources none may do everything: only the one of last resort can commit")
	}
	c.lastResort()
	for i, to := range c.p.AlarmTo {
		if a, err := mail.ParseAddress(to); err != nil || a.Name != "" {
			c.add(Stop, "alarm-address", at("alarm-to", i), "write it as keepers@tern.example", "%q is no mail address", to)
		}
	}
	if len(c.p.AlarmTo) > 0 && c.p.MailServer == "" {
		c.add(Stop, "mail-nowhere", "alarm-to", "say mail-server and mail-from", "people are to be sent mail, and there is no mail server")
	}
}

func (c *checker) lastResort() {
	if c.Administrators == nil {
		return
	}
	var others, could []string
	found := false
	for _, a := range c.Administrators {
		switch {
		case a.Source != "":
		case a.Name == c.p.LastResort && a.Role == wholeRole:
			found = true
		case a.Name != c.p.LastResort:
			others = append(others, a.Name)
			if a.Role == wholeRole {
				could = append(could, a.Name)
			}
		}
	}
	switch {
	case c.p.LastResort == "":
		c.add(Stop, "last-resort-none", "administrators", "say last-resort: an administrator of the service's own",
			"nobody could sign in while the source of administrators does not answer, or its groups are wrong")
		if len(could) == 1 {
			c.mend("set", "last-resort", could[0])
		}
		return
	case !found:
		c.add(Stop, "last-resort-nobody", "last-resort", "name one of these, who may do everything: yl administrators list",
			"%s is no administrator of the service's own with the role administrator: nobody could sign in while the source of administrators does not answer", c.p.LastResort)
	}
	if len(others) > 0 {
		c.add(Note, "own-administrators", "administrators", "yl administrators remove "+others[0]+", if they are in the source",
			"%s will not sign in any more, being neither of a source nor the administrator of last resort; tokens of theirs go on", few(others))
	}
}
