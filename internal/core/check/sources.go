package check

import (
	"slices"
	"strings"
	"time"

	"yellowlantern/internal/core/foreign"
	"yellowlantern/internal/core/plan"
)

// sources finds what keeps people of a source outside, or what is not learned of them.
func (c *checker) sources() {
	for i := range c.p.Sources {
		s := &c.p.Sources[i]
		if s.Off {
			continue
		}
		path := "sources/" + s.Name
		c.sourceServers(path, s)
		c.sourceAccount(path, s)
		c.sourceTimes(path, s)
		if s.Authority != "" {
			if read, err := foreign.Read(plan.Authority{Name: s.Name, Certificate: s.Authority}); err != nil {
				c.add(Stop, "source-authority", path+"/authority", "give the certificate of who issued its servers' certificates, PEM",
					"the authority of source %s will not do: %v", s.Name, err)
			} else if left := read.Ends().Sub(c.Now); left < expiresSoon {
				c.add(Warn, "source-authority", path+"/authority", "give the newer certificate beside it",
					"the authority of source %s ends on %s: nobody of it comes in from then on", s.Name, read.Ends().Format("2006-01-02"))
			}
		}
		for _, word := range []string{s.Filter} {
			if word != "" && (!strings.HasPrefix(word, "(") || strings.Count(word, "(") != strings.Count(word, ")")) {
				c.add(Stop, "source-filter", path+"/filter", "write it as RFC 4515 has it, such as (objectClass=inetOrgPerson)",
					"the filter %s of source %s cannot be read", word, s.Name)
			}
		}
		if s.Nested && s.GroupBase == "" && s.LoginAttribute() == plan.DefaultLoginBy {
			c.add(Warn, "source-nested", path+"/group-base", "say below what its groups are",
				"source %s is to follow groups of groups, and nothing says where groups are looked for: only a directory that follows them itself does",
				s.Name)
		}
		c.sourceLogins(path, s)
	}
}

func (c *checker) sourceServers(path string, s *plan.Source) {
	if len(s.Servers) == 0 {
		c.add(Stop, "source-server", path+"/servers", "say where it is asked, such as ldaps://directory.tern.example",
			"source %s names no server: nobody of it comes in", s.Name)
	}
	for i, word := range s.Servers {
		if err := plan.CheckServer(word); err != nil {
			c.add(Stop, "source-server", at(path+"/servers", i), "write it as ldaps://NAME or ldap://NAME",
				"source %s: %v", s.Name, err)
		}
	}
}

func (c *checker) sourceAccount(path string, s *plan.Source) {
	switch {
	case s.Account == "" && s.BindAs == "":
		c.add(Stop, "source-account", path+"/account", "give an account that may look people up, or say by bind-as what people are called there",
			"source %s has neither an account nor a way to call people: nobody of it comes in", s.Name)
	case s.Account == "":
		c.add(Warn, "source-without-account", path+"/account", "give it an account that may look people up",
			"source %s is asked at logins alone: who is switched off there stays connected until the session ends by its limits", s.Name)
		if !strings.Contains(s.BindAs, "{user}") {
			c.add(Stop, "source-account", path+"/bind-as",
				"write {user} where the name goes, such as uid={user},ou=people,dc=tern,dc=example",
				"bind-as of source %s says nothing of who logs in: everybody would be one person", s.Name)
		}
	case s.Secret == "":
		c.add(Stop, "source-account", path+"/secret", "keep the account's password beside the plan (yl secret keep), and name it",
			"the account of source %s has no password, and a directory lets nobody in without", s.Name)
	case c.Secrets != nil && !c.Secrets[s.Secret]:
		c.add(Stop, "no-secret", path+"/secret", "keep it: yl secret keep "+s.Secret+" --kind password --from-file FILE",
			"there is no secret %q: source %s would refuse its account", s.Secret, s.Name)
	}
}

func (c *checker) sourceTimes(path string, s *plan.Source) {
	for _, x := range []struct {
		name        string
		value       plan.Duration
		least, most time.Duration
	}{
		{"timeout", s.Timeout, time.Second, 10 * time.Second},
		{"look-again", s.LookAgain, 30 * time.Second, 24 * time.Hour},
		{"remember", s.Remember, time.Hour, 720 * time.Hour},
	} {
		if d := time.Duration(x.value); d != 0 && (d < x.least || d > x.most) {
			c.add(Stop, "source-time", path+"/"+x.name, "give "+plan.Duration(x.least).String()+" to "+plan.Duration(x.most).String(),
				"%s of source %s is %s", x.name, s.Name, x.value.String())
		}
	}
}

// sourceLogins crosses what a source can check with how tunnels have people log in: one that only binds cannot check a challenge.
func (c *checker) sourceLogins(path string, s *plan.Source) {
	handed, byKey := false, false
	for _, t := range c.p.Tunnels {
		if t.Off {
			continue
		}
		handed = handed || slices.Contains(t.Logins(), plan.LoginTTLS)
		byKey = byKey || t.Login == plan.LoginCertificate && len(t.Authorities) > 0 && s.Account != ""
	}
	if handed || byKey {
		return
	}
	fix := "say login: eap-ttls at a tunnel of its people, for devices that have it; for others let people come by certificates of an authority " +
		"that the tunnel names, with their groups from here"
	c.add(Stop, "source-cannot-check", path+"/kind", fix,
		"nobody of source %s can log in: a directory can only be handed a password, and no tunnel hands one over", s.Name)
}
