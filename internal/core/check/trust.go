package check

import (
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
		have := c.Certificates[t.Certificate]
		if have == nil {
			c.add(Stop, "no-certificate", path, "make one: yl certificate make "+t.Certificate+" --for "+g.Dial, "there is no certificate %q: devices cannot tell the gateway from an impostor, and do not connect", t.Certificate)
			continue
		}
		if why := cert.Problem(have, g.Dial, c.Now); why != "" {
			c.add(Stop, "certificate-refused", path, "make one for "+g.Dial+": yl certificate make "+t.Certificate+" --for "+g.Dial, "devices refuse certificate %q: %s", t.Certificate, why)
		} else if left := have.NotAfter.Sub(c.Now); left < expiresSoon {
			c.add(Warn, "certificate-expires", path, "make a new one before then", "certificate %q expires in %d days: nobody can connect from then on", t.Certificate, int(left.Hours()/24))
		}
	}
}
