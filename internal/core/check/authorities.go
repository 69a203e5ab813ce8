package check

import (
	"net/url"
	"strings"

	"yellowlantern/internal/core/foreign"
	"yellowlantern/internal/core/plan"
)

// authorities finds what keeps certificates of other authorities from counting, or lets ones count that should not.
func (c *checker) authorities() {
	for _, a := range c.p.Authorities {
		path := "authorities/" + a.Name
		read, err := foreign.Read(a)
		if err != nil {
			c.add(Stop, "authority-unreadable", path+"/certificate", "give the certificate of who issues people's, PEM",
				"the certificate of authority %s will not do: %v", a.Name, err)
			continue
		}
		c.authorityEnds(path, a.Name, read)
		c.revocation(path, a)
	}
	for _, t := range c.p.Tunnels {
		if len(t.Authorities) > 0 && !t.ByCertificate() {
			c.add(Warn, "authorities-unused", "tunnels/"+t.Name+"/authorities", "leave them out, or say login: "+plan.LoginCertificate,
				"tunnel %s names authorities, and nobody logs in by a certificate there", t.Name)
			c.mend("remove", "tunnels/"+t.Name+"/authorities", "")
		}
	}
}

func (c *checker) authorityEnds(path, name string, read *foreign.Authority) {
	switch left := read.Ends().Sub(c.Now); {
	case left <= 0:
		c.add(Stop, "authority-over", path+"/certificate", "give the authority's newer certificate",
			"a certificate of authority %s ended on %s: nobody comes in by it", name, read.Ends().Format("2006-01-02"))
	case left < expiresSoon:
		c.add(Warn, "authority-ends", path+"/certificate", "add the authority's newer certificate beside it before then",
			"a certificate of authority %s ends in %d days: nobody comes in by it from then on", name, int(left.Hours()/24))
	}
}

// revocation finds how it would not be found out that a certificate is revoked.
func (c *checker) revocation(path string, a plan.Authority) {
	how := a.FoundOut()
	switch {
	case how == plan.RevocationNone:
		c.add(Warn, "revocation-not-asked", path+"/revocation", "leave it out: lists and servers that certificates name are used then",
			"a certificate of authority %s lets its person in until it ends, also one that was lost and revoked", a.Name)
		c.mend("remove", path+"/revocation", "")
	case a.Admits():
		c.add(Warn, "revocation-open", path+"/when-unknown", "say refuse, and give the list by hand where the authority's server is away for long",
			"whoever keeps this service from authority %s comes in with a revoked certificate", a.Name)
		c.mend("set", path+"/when-unknown", plan.UnknownRefuse)
	}
	for i, address := range a.Lists {
		c.fetched(at(path+"/lists", i), address)
	}
	if a.OCSP != "" {
		c.fetched(path+"/ocsp", a.OCSP)
	}
	if how == plan.RevocationOCSP && len(a.Lists) > 0 {
		c.add(Note, "lists-unused", path+"/lists", "say revocation: "+plan.RevocationBoth,
			"authority %s has lists, and they are not gone by: its server alone is asked", a.Name)
		c.mend("set", path+"/revocation", plan.RevocationBoth)
	}
}

// fetched finds an address from which nothing can be fetched.
func (c *checker) fetched(path, address string) {
	u, err := url.Parse(address)
	fetched := err == nil && (u.Scheme == "http" || u.Scheme == "https") && u.Host != "" && u.User == nil
	if fetched && !strings.ContainsAny(address, " \t\n") {
		return
	}
	c.add(Stop, "address-unfetchable", path, "write it as http://pki.tern.example/people.crl, without a password",
		"%q is no address that could be fetched by HTTP", address)
}
