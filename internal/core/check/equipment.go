package check

import (
	"slices"

	"yellowlantern/internal/core/plan"
)

// equipment finds what keeps equipment from being answered, or tells it too much.
func (c *checker) equipment() {
	heard := c.p.EquipmentAt.IsValid()
	if heard && !slices.ContainsFunc(c.p.Equipment, func(e plan.Equipment) bool { return !e.Off }) {
		c.add(Note, "equipment-none", "equipment-at", "add equipment, or leave it out", "the service is to answer equipment at %s, and there is none", c.p.EquipmentAt)
		c.mend("remove", "equipment-at", "")
	}
	seen := map[string]string{}
	for i := range c.p.Equipment {
		e := &c.p.Equipment[i]
		path := "equipment/" + e.Name
		if e.Off {
			continue
		}
		if !heard {
			c.add(Stop, "equipment-unheard", path,
				"say equipment-at, the service's own address where it asks",
				"nobody answers equipment %s", e.Name)
		}
		if len(e.Addresses) == 0 {
			c.add(Stop, "equipment-from-nowhere", path+"/addresses",
				"say where it asks from",
				"equipment %s asks from nowhere: nobody answers it", e.Name)
		}
		for j, prefix := range e.Addresses {
			if other, twice := seen[prefix.Masked().String()]; twice {
				c.add(Stop, "equipment-alike", at(path+"/addresses", j), "leave it out at one of them",
					"equipment %s and %s ask from %s: nothing tells which of both it is", other, e.Name, prefix)
			}
			seen[prefix.Masked().String()] = e.Name
		}
		if c.Secrets != nil && !c.Secrets[e.Secret] {
			c.add(Stop, "no-secret", path+"/secret",
				"make it: yl secret make "+e.Secret+" --kind password",
				"there is no secret %q: equipment %s is answered nothing", e.Secret, e.Name)
		}
		for _, s := range c.p.Sources {
			if s.Secret == e.Secret {
				c.add(Warn, "secret-shared-twice", path+"/secret",
					"give each its own, and name it: yl secret make "+e.Name+" --kind password",
					"equipment %s and source %s share one secret: either can pass for the other", e.Name, s.Name)
			}
		}
		c.equipmentWays(path, e)
	}
}

func (c *checker) equipmentWays(path string, e *plan.Equipment) {
	tls := slices.Contains(e.Ways(), plan.LoginTTLS) || slices.Contains(e.Ways(), plan.LoginEAPTLS)
	if tls && (e.Certificate == "" || c.Certificates != nil && c.Certificates[e.Certificate] == nil) {
		c.add(Stop, "no-certificate", path+"/certificate", "name a certificate that is kept here, or say logins: [eap-mschapv2]",
			"equipment %s may have people log in inside TLS, and there is no certificate to show them", e.Name)
	}
	if slices.Contains(e.Ways(), plan.AskPassword) {
		c.add(Warn, "equipment-learns-passwords", path+"/logins", "say eap-ttls or eap-mschapv2, where it has them",
			"equipment %s has people's passwords handed over: it learns them, and on the way here they are hidden by MD5 and the shared secret alone", e.Name)
	}
	if room := slices.Contains(e.Ways(), plan.AskPassword) || slices.Contains(e.Ways(), plan.LoginTTLS); e.Factor && !e.Optional && !room {
		c.add(Stop, "equipment-no-room-for-codes", path+"/logins", "add eap-ttls, or password",
			"equipment %s requires a second factor, and none of its logins has room for a code: nobody gets in", e.Name)
	}
	if e.Optional && !e.Factor {
		c.add(Note, "equipment-factor-unused", path+"/factor-optional", "leave it out, or say second-factor: true",
			"equipment %s asks nobody for a second factor", e.Name)
		c.mend("remove", path+"/factor-optional", "")
	}
	if len(e.Groups) == 0 {
		c.add(Stop, "equipment-for-nobody", path+"/groups", "name the groups whom it may let in", "equipment %s lets nobody in", e.Name)
	}
}
