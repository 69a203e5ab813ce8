package agent

import (
	"cmp"
	"crypto"
	"crypto/x509"
	"fmt"
	"slices"

	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/gateway"
)

// Part is a gateway's own part of a plan: itself, its tunnels and translations, and of what is shared everything but the expectations,
// which are the service's business. Pools are whole, for a gateway must know which addresses are people's, also those of others.
func Part(p *plan.Plan, name string) plan.Plan {
	out := *p
	out.Expectations = nil
	out.Gateways = slices.DeleteFunc(slices.Clone(p.Gateways), func(g plan.Gateway) bool { return g.Name != name })
	out.Tunnels = slices.DeleteFunc(slices.Clone(p.Tunnels), func(t plan.Tunnel) bool { return t.Gateway != name })
	out.NAT = slices.DeleteFunc(slices.Clone(p.NAT), func(n plan.Translation) bool { return n.Gateway != name })
	return out
}

// want makes of settings what is handed over.
func want(set gateway.Settings) (Desired, error) {
	d := Desired{
		Revision: set.Revision, Gateway: set.Gateway, Plan: Part(set.Plan, set.Gateway), Again: set.Again, Authorities: set.Authorities,
	}
	for name, c := range set.Certificates {
		key, err := x509.MarshalPKCS8PrivateKey(c.Key)
		if err != nil {
			return d, fmt.Errorf("the key of certificate %s: %w", name, err)
		}
		d.Certificates = append(d.Certificates, Certificate{name, c.Chain, key, c.Root})
	}
	slices.SortFunc(d.Certificates, func(a, b Certificate) int { return cmp.Compare(a.Name, b.Name) })
	return d, nil
}

// settings is the way back.
func (d *Desired) settings() (gateway.Settings, error) {
	set := gateway.Settings{
		Revision: d.Revision, Plan: &d.Plan, Gateway: d.Gateway, Again: d.Again, Authorities: d.Authorities, Certificates: map[string]gateway.Certificate{},
	}
	for _, c := range d.Certificates {
		key, err := x509.ParsePKCS8PrivateKey(c.Key)
		if err != nil {
			return set, fmt.Errorf("the key of certificate %s: %w", c.Name, err)
		}
		signer, ok := key.(crypto.Signer)
		if !ok {
			return set, fmt.Errorf("the key of certificate %s cannot sign", c.Name)
		}
		set.Certificates[c.Name] = gateway.Certificate{Chain: c.Chain, Key: signer, Root: c.Root}
	}
	return set, nil
}
