package check

import (
	"bytes"
	"cmp"
	"crypto/x509"
	"net/url"
	"time"

	"yellowlantern/internal/core/cert"
)

const expiresSoon = 30 * 24 * time.Hour

// kits finds that people would not reach the pages of their kits, or be warned of them.
func (c *checker) kits() {
	if c.p.KitsAt == "" {
		return
	}
	u, err := url.Parse(c.p.KitsAt)
	if err != nil || u.Scheme != "https" || u.Hostname() == "" || u.User != nil || u.RawQuery != "" || u.Path != "" || u.Fragment != "" {
		c.add(Stop, "kits-at", "kits-at", "write it as https://kits.tern.example, with a port where it is not 443, and nothing behind it",
			"%q is no address that links to kits could lead to", c.p.KitsAt)
		return
	}
	name := cmp.Or(c.p.KitsShown, "kits")
	have := c.Certificates[name]
	if have == nil {
		return // one is made
	}
	if why := cert.Problem(have, u.Hostname(), c.Now); why != "" {
		c.add(Warn, "kits-certificate", "kits-certificate", "yl certificate make "+name+forAll(have, u.Hostname())+", or import one",
			"browsers warn people of the page that their kit is on: certificate %q: %s", name, why)
	}
}

// trust finds certificates that devices will not accept.
func (c *checker) trust() {
	c.kits()
	for _, t := range c.p.Tunnels {
		g := c.n.Gateways[t.Gateway]
		if t.Off || g == nil {
			continue
		}
		base, dial := "tunnels/"+t.Name, t.IdentityOr(g.Dial)
		c.certificate(base+"/certificate", t.Certificate, dial, "")
		if t.Second == "" {
			continue
		}
		path := base + "/second-certificate"
		c.certificate(path, t.Second, dial, " --key-kind rsa")
		first, second := c.Certificates[t.Certificate], c.Certificates[t.Second]
		if t.Second == t.Certificate || first != nil && second != nil && cert.KindOf(first) == cert.KindOf(second) {
			c.add(Warn, "certificates-alike", path, "make the second one with another kind of key: yl certificate make "+t.Second+" --for "+
				dial+" --key-kind rsa", "both certificates of tunnel %s have the same kind of key: the second helps no device", t.Name)
			c.mend("remove", path, "")
		}
	}
}

// namesFor are the names that a certificate is to hold in place of another: also what that one held, for what runs is dialled by it.
func namesFor(have *x509.Certificate, dial string) []string {
	out := []string{dial}
	for _, n := range cert.Names(have) {
		if n != dial {
			out = append(out, n)
		}
	}
	return out
}

func forAll(have *x509.Certificate, dial string) (words string) {
	for _, n := range namesFor(have, dial) {
		words += " --for " + n
	}
	return words
}

// certificate finds that devices will not accept one.
func (c *checker) certificate(path, name, dial, kind string) {
	have := c.Certificates[name]
	if have == nil {
		c.add(Stop, "no-certificate", path, "make one: yl certificate make "+name+" --for "+dial+kind,
			"there is no certificate %q: devices cannot tell the gateway from an impostor, and do not connect", name)
		if kind == "" {
			c.todo(MakeCertificate, name, dial)
		}
		return
	}
	if why := cert.Problem(have, dial, c.Now); why != "" {
		c.add(Stop, "certificate-refused", path, "make one for "+dial+" too: yl certificate make "+name+forAll(have, dial)+kind,
			"devices refuse certificate %q: %s", name, why)
		if kind == "" {
			c.todo(MakeCertificate, name, namesFor(have, dial)...)
		}
	} else if left := have.NotAfter.Sub(c.Now); left < expiresSoon {
		c.add(Warn, "certificate-expires", path, "make a new one before then",
			"certificate %q expires in %d days: nobody can connect from then on", name, int(left.Hours()/24))
	}
	if c.Authority != nil && have.CheckSignatureFrom(c.Authority) != nil && bytes.Equal(have.RawIssuer, have.RawSubject) {
		c.add(Warn, "certificate-self-signed", path,
			"make one by the service's own authority: yl certificate make "+name+forAll(have, dial)+kind,
			"certificate %q is signed by itself: no device trusts it unless its user clicks through a warning", name)
	}
}
