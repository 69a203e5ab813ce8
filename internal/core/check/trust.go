package check

import (
	"bytes"
	"time"

	"yellowlantern/internal/core/cert"
)

const expiresSoon = 30 * 24 * time.Hour

// trust finds certificates that devices will not accept.
func (c *checker) trust() {
	for _, t := range c.p.Tunnels {
		g := c.n.Gateways[t.Gateway]
		if t.Off || g == nil {
			continue
		}
		path := "tunnels/" + t.Name + "/certificate"
		dial := t.IdentityOr(g.Dial)
		have := c.Certificates[t.Certificate]
		if have == nil {
			c.add(Stop, "no-certificate", path, "make one: yl certificate make "+t.Certificate+" --for "+dial,
				"there is no certificate %q: devices cannot tell the gateway from an impostor, and do not connect", t.Certificate)
			c.todo(MakeCertificate, t.Certificate, dial)
			continue
		}
		if why := cert.Problem(have, dial, c.Now); why != "" {
			c.add(Stop, "certificate-refused", path, "make one for "+dial+": yl certificate make "+t.Certificate+" --for "+dial,
				"devices refuse certificate %q: %s", t.Certificate, why)
			c.todo(MakeCertificate, t.Certificate, dial)
		} else if left := have.NotAfter.Sub(c.Now); left < expiresSoon {
			c.add(Warn, "certificate-expires", path, "make a new one before then",
				"certificate %q expires in %d days: nobody can connect from then on", t.Certificate, int(left.Hours()/24))
		}
		if c.Authority != nil && have.CheckSignatureFrom(c.Authority) != nil && bytes.Equal(have.RawIssuer, have.RawSubject) {
			c.add(Warn, "certificate-self-signed", path,
				"make one by the service's own authority: yl certificate make "+t.Certificate+" --for "+dial,
				"certificate %q is signed by itself: no device trusts it unless its user clicks through a warning", t.Certificate)
		}
	}
}
