package plan

import (
	"slices"
	"strings"
	"time"
)

// What is meant where a tunnel does not say it.
const (
	DefaultMTU       = 1400 // octets
	DefaultLiveness  = 30 * time.Second
	DefaultKeepalive = 20 * time.Second
)

// InnerMTU is the largest packet inside the tunnel, in octets.
func (t Tunnel) InnerMTU() int {
	if t.MTU == 0 {
		return DefaultMTU
	}
	return t.MTU
}

// IdentityOr is the name by which devices ask for the tunnel; dial is its gateway's.
func (t Tunnel) IdentityOr(dial string) string {
	if t.Identity != "" {
		return t.Identity
	}
	return dial
}

// given tells whether a passage says anything of names.
func (d DNS) given() bool { return d.Servers != nil || d.Search != nil || d.Domains != nil }

// given tells whether a passage says anything of routes: an empty list is something, and never means everything.
func (r Routes) given() bool { return r.Full || r.Split != nil }

// defaultsOf is where a passage takes from what it does not say: the gateway of its first tunnel, or the first gateway.
func (p *Plan) defaultsOf(passage *Passage) *Gateway {
	if len(p.Gateways) == 0 {
		return nil
	}
	g := &p.Gateways[0]
	for _, name := range passage.Tunnels {
		if i := slices.IndexFunc(p.Tunnels, func(t Tunnel) bool { return t.Name == name }); i >= 0 {
			for k := range p.Gateways {
				if p.Gateways[k].Name == p.Tunnels[i].Gateway {
					g = &p.Gateways[k]
				}
			}
			break
		}
	}
	if g.Defaults == nil {
		return nil
	}
	return g
}

// Settle fills in what passages take from their gateway's defaults, and leaves out expectations that are off. It gives the settled plan,
// and, by the path of each field that was taken, the path of the default. The plan itself stays as it is.
func (p *Plan) Settle() (*Plan, map[string]string) {
	settled, taken := *p, map[string]string{}
	settled.Expectations = slices.DeleteFunc(slices.Clone(p.Expectations), func(e Expectation) bool { return e.Off })
	settled.Passages = slices.Clone(p.Passages)
	for i := range settled.Passages {
		passage := &settled.Passages[i]
		if g := p.defaultsOf(passage); g != nil {
			passage.take(g.Defaults, func(field string) {
				taken["passages/"+passage.Name+"/"+field] = "gateways/" + g.Name + "/defaults/" + field
			})
		}
	}
	return &settled, taken
}

func (p *Passage) take(d *Defaults, note func(field string)) {
	if p.Tunnels == nil && d.Tunnels != nil {
		p.Tunnels = d.Tunnels
		note("tunnels")
	}
	if p.Pool == "" && d.Pool != "" {
		p.Pool = d.Pool
		note("pool")
	}
	if !p.DNS.given() && d.DNS.given() {
		p.DNS = d.DNS
		note("dns")
	}
	if !p.Routes.given() && d.Routes.given() {
		p.Routes = d.Routes
		note("routes")
	}
	if p.Banner == "" && d.Banner != "" {
		p.Banner = d.Banner
		note("banner")
	}
	p.Limits.take(d.Limits, func(field string) { note("limits/" + field) })
}

func (l *Limits) take(d Limits, note func(field string)) {
	number := func(to *int, from int, field string) {
		if *to == 0 && from != 0 {
			*to = from
			note(field)
		}
	}
	length := func(to *Duration, from Duration, field string) {
		if *to == 0 && from != 0 {
			*to = from
			note(field)
		}
	}
	number(&l.Sessions, d.Sessions, "sessions")
	if l.PerPerson == 0 && d.PerPerson != 0 { // what happens at the limit belongs to the limit
		l.PerPerson, l.NewestWins = d.PerPerson, d.NewestWins
		note("per-person")
	}
	length(&l.Idle, d.Idle, "idle")
	length(&l.Longest, d.Longest, "longest")
	length(&l.Patience, d.Patience, "patience")
	if !l.OnePlace && d.OnePlace {
		l.OnePlace = true
		note("one-place")
	}
	if l.Hours == "" && d.Hours != "" {
		l.Hours = d.Hours
		note("hours")
	}
}

// OriginOf is where a setting really stands: the default that it was taken from, or the path itself.
func OriginOf(taken map[string]string, path string) string {
	for at := path; ; {
		if from, ok := taken[at]; ok {
			return from + path[len(at):]
		}
		cut := strings.LastIndexByte(at, '/')
		if cut < 0 {
			return path
		}
		at = at[:cut]
	}
}
