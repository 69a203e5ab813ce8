package check

import (
	"cmp"
	"crypto/x509"
	"net/netip"
	"slices"
	"strings"
	"time"

	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/foreign"
	"yellowlantern/internal/core/plan"
)

// sources finds what keeps people of a source outside, or what is not learned of them.
func (c *checker) sources() {
	relayed := ""
	for i := range c.p.Sources {
		s := &c.p.Sources[i]
		if s.Off {
			continue
		}
		path := "sources/" + s.Name
		c.sourceServers(path, s)
		c.sourceTimes(path, s)
		c.sourceAuthority(path, s)
		switch s.Kind {
		case plan.KindLDAP:
			c.directory(path, s, s.LDAP())
		case plan.KindRADIUS:
			c.radius(path, s, s.RADIUS())
			if relayed != "" && c.relays() != "" {
				c.add(Warn, "source-relay-second", path+"/kind", "switch one of both off, or say login: eap-ttls",
					"EAP is carried on by source %s, which comes first: nobody of source %s comes in by login: eap-relayed", relayed, s.Name)
			}
			relayed = cmp.Or(relayed, s.Name)
		}
		c.sourceLogins(path, s)
	}
	if t := c.relays(); t != "" && relayed == "" {
		c.add(Stop, "source-to-relay", "tunnels/"+t+"/login", "add a source of kind radius, or say another login",
			"tunnel %s has people log in by a method of a source's, and there is no source of kind radius: nobody comes in by it", t)
	}
}

// relays is a tunnel by which EAP is carried on by a source; empty: none does.
func (c *checker) relays() string {
	for _, t := range c.p.Tunnels {
		if !t.Off && slices.Contains(t.Logins(), plan.LoginRelayed) {
			return t.Name
		}
	}
	return ""
}

func (c *checker) sourceAuthority(path string, s *plan.Source) {
	if s.Authority == "" {
		return
	}
	if read, err := foreign.Read(plan.Authority{Name: s.Name, Certificate: s.Authority}); err != nil {
		c.add(Stop, "source-authority", path+"/authority", "give the certificate of who issued its servers' certificates, PEM",
			"the authority of source %s will not do: %v", s.Name, err)
	} else if left := read.Ends().Sub(c.Now); left < expiresSoon {
		c.add(Warn, "source-authority", path+"/authority", "give the newer certificate beside it",
			"the authority of source %s ends on %s: nobody of it comes in from then on", s.Name, read.Ends().Format("2006-01-02"))
	}
}

// directory finds what is wrong with how a directory is asked.
func (c *checker) directory(path string, s *plan.Source, own *plan.LDAP) {
	c.sourceAccount(path, s, own)
	if f := own.Filter; f != "" && (!strings.HasPrefix(f, "(") || strings.Count(f, "(") != strings.Count(f, ")")) {
		c.add(Stop, "source-filter", path+"/filter", "write it as RFC 4515 has it, such as (objectClass=inetOrgPerson)",
			"the filter %s of source %s cannot be read", f, s.Name)
	}
	if own.Nested && own.GroupBase == "" && own.LoginAttribute() == plan.DefaultLoginBy {
		c.add(Warn, "source-nested", path+"/group-base", "say below what its groups are",
			"source %s is to follow groups of groups, and nothing says where groups are looked for: only a directory that follows them itself does",
			s.Name)
	}
}

// radius finds what is wrong with how a server that judges logins is asked.
func (c *checker) radius(path string, s *plan.Source, own *plan.RADIUS) {
	byUDP, overTLS, open := false, false, ""
	for _, word := range slices.Concat(s.Servers, own.Accounting) {
		at, err := plan.ReadServer(plan.KindRADIUS, word)
		switch ip, _ := netip.ParseAddr(at.Host); {
		case err != nil:
		case at.Scheme == plan.SchemeRADIUSTLS:
			overTLS = true
		default:
			byUDP = true
			if !ip.IsLoopback() && open == "" {
				open = word
			}
		}
	}
	switch {
	case own.ChangesAt.IsValid() && s.Secret == "":
		c.add(Stop, "source-account", path+"/secret", "keep the secret that the server has for this service (yl secret keep NAME --kind password --from-file FILE), and name it",
			"source %s shares no secret with its servers: what they ask for while sessions last would count for nothing", s.Name)
	case byUDP && s.Secret == "":
		c.add(Stop, "source-account", path+"/secret", "keep the secret that the server has for this service (yl secret keep NAME --kind password --from-file FILE), and name it",
			"source %s shares no secret with its servers: they answer nobody without", s.Name)
	case s.Secret != "" && c.Secrets != nil && !c.Secrets[s.Secret]:
		c.add(Stop, "no-secret", path+"/secret", "keep it: yl secret keep "+s.Secret+" --kind password --from-file FILE",
			"there is no secret %q: the servers of source %s would answer nothing", s.Secret, s.Name)
	}
	if open != "" {
		c.add(Warn, "source-in-clear", path+"/servers", "use radius+tls://, where the server has it (RFC 6614), or a way there that nobody else is on",
			"%s of source %s is asked by UDP: names can be read on the way, and passwords are hidden by MD5 and the shared secret alone", open, s.Name)
	}
	if overTLS && own.Certificate == "" {
		c.add(Warn, "source-certificate", path+"/certificate", "make one (yl certificate make NAME --for NAME), have the server trust it, and name it",
			"source %s shows its servers no certificate: most let nobody ask over TLS without", s.Name)
	}
	if own.Certificate != "" && c.Certificates != nil && c.Certificates[own.Certificate] == nil {
		c.add(Stop, "no-certificate", path+"/certificate", "make it: yl certificate make "+own.Certificate+" --for "+own.Certificate+", or name another",
			"there is no certificate %q, by which source %s proves itself to its servers", own.Certificate, s.Name)
	}
	if have := c.Certificates[own.Certificate]; have != nil && len(have.ExtKeyUsage) > 0 &&
		!slices.Contains(have.ExtKeyUsage, x509.ExtKeyUsageClientAuth) && !slices.Contains(have.ExtKeyUsage, x509.ExtKeyUsageAny) {
		c.add(Stop, "source-certificate", path+"/certificate",
			"make one for both in its place: yl certificate make "+own.Certificate+forAll(have, cert.Names(have)[0]),
			"the certificate %s, by which source %s proves itself, is one for servers alone: its servers refuse it", own.Certificate, s.Name)
	}
	if own.GroupsFrom == plan.GroupsClass {
		c.add(Warn, "source-groups-from-class", path+"/groups-from", "have the server send Filter-Id, and leave this out",
			"groups of source %s are read of Class, which is the server's own affair (RFC 2865 §5.25): what it holds may change at any time", s.Name)
	}
	if own.ChangesAt.IsValid() && !slices.ContainsFunc(s.Servers, byAddress) {
		c.add(Stop, "source-changes-from-nobody", path+"/servers", "name the server by its address, as radius://ADDRESS",
			"source %s is to be listened to at %s, and names no server by its address: nobody's word would count", s.Name, own.Changes())
	}
	if !own.ChangesAt.IsValid() {
		c.add(Note, "source-without-changes", path+"/changes-at", "say where the service listens for them (RFC 5176), and have the server send them",
			"source %s is asked at logins alone: who is switched off there stays connected until their session ends by its limits", s.Name)
	}
}

// byAddress tells whether a server is named by its address.
func byAddress(word string) bool {
	at, err := plan.ReadServer(plan.KindRADIUS, word)
	if err != nil {
		return false
	}
	_, err = netip.ParseAddr(at.Host)
	return err == nil
}

func (c *checker) sourceServers(path string, s *plan.Source) {
	if len(s.Servers) == 0 {
		c.add(Stop, "source-server", path+"/servers", "say where it is asked: "+plan.Expected(s.Kind),
			"source %s names no server: nobody of it comes in", s.Name)
	}
	for setting, words := range map[string][]string{"servers": s.Servers, "accounting": s.RADIUS().Accounting} {
		for i, word := range words {
			if _, err := plan.ReadServer(s.Kind, word); err != nil {
				c.add(Stop, "source-server", at(path+"/"+setting, i), "write it as "+plan.Expected(s.Kind), "source %s: %v", s.Name, err)
			}
		}
	}
}

func (c *checker) sourceAccount(path string, s *plan.Source, own *plan.LDAP) {
	switch {
	case own.Account == "" && own.BindAs == "":
		c.add(Stop, "source-account", path+"/account", "give an account that may look people up, or say by bind-as what people are called there",
			"source %s has neither an account nor a way to call people: nobody of it comes in", s.Name)
	case own.Account == "":
		c.add(Warn, "source-without-account", path+"/account", "give it an account that may look people up",
			"source %s is asked at logins alone: who is switched off there stays connected until the session ends by its limits", s.Name)
		if !strings.Contains(own.BindAs, "{user}") {
			c.add(Stop, "source-account", path+"/bind-as",
				"write {user} where the name goes, such as uid={user},ou=people,dc=tern,dc=example",
				"bind-as of source %s says nothing of who logs in: everybody would be one person", s.Name)
		}
	case s.Secret == "":
		c.add(Stop, "source-account", path+"/secret", "keep the account's password beside the plan (yl secret keep NAME --kind password --from-file FILE), and name it",
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
		{"look-again", s.LDAP().LookAgain, 30 * time.Second, 24 * time.Hour},
		{"remember", s.Remember, time.Hour, 720 * time.Hour},
		{"interim", s.RADIUS().Interim, time.Minute, 24 * time.Hour},
	} {
		if d := time.Duration(x.value); d != 0 && (d < x.least || d > x.most) {
			c.add(Stop, "source-time", path+"/"+x.name, "give "+plan.Duration(x.least).String()+" to "+plan.Duration(x.most).String(),
				"%s of source %s is %s", x.name, s.Name, x.value.String())
		}
	}
}

// sourceLogins crosses what a source can check with how tunnels have people log in: one that only binds cannot check a challenge.
func (c *checker) sourceLogins(path string, s *plan.Source) {
	for _, t := range c.p.Tunnels {
		byKey := t.ByCertificate() && t.Login != plan.LoginBoth && len(t.Authorities) > 0 && s.LDAP().Account != ""
		if !t.Off && (byKey || slices.ContainsFunc(t.Logins(), func(way string) bool { return plan.Judges(s.Kind, way) })) {
			return
		}
	}
	if s.Kind == plan.KindRADIUS {
		c.add(Stop, "source-cannot-check", path+"/kind", "say login: eap-mschapv2, eap-ttls or eap-relayed at a tunnel of its people",
			"nobody of source %s can log in: no tunnel has people log in by anything that a RADIUS server judges", s.Name)
		return
	}
	fix := "say login: eap-ttls at a tunnel of its people, for devices that have it; for others let people come by certificates of an authority " +
		"that the tunnel names, with their groups from here"
	c.add(Stop, "source-cannot-check", path+"/kind", fix,
		"nobody of source %s can log in: a directory can only be handed a password, and no tunnel hands one over", s.Name)
}
