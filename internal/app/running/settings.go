package running

import (
	"context"
	"crypto/x509"
	"fmt"

	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/store"
)

// Settings is what the gateway needs to run a document.
func (s *Service) Settings(ctx context.Context, text string) (gateway.Settings, error) {
	doc, err := s.Wholes.Read(text)
	if err != nil {
		return gateway.Settings{}, refusal.Mistaken(err)
	}
	set := gateway.Settings{Plan: &doc.Plan}
	if len(doc.Plan.Gateways) == 0 {
		return set, refusal.Invalid("the plan has no gateway")
	}
	set.Gateway = doc.Plan.Gateways[0].Name
	set.Certificates = map[string]gateway.Certificate{}
	records, err := s.Store.Revoked(ctx)
	if err != nil {
		return set, err
	}
	revoked := map[string]bool{}
	for _, r := range records {
		revoked[r.Serial] = true
	}
	var own []*x509.Certificate
	for _, name := range []string{store.AuthorityName, store.AuthorityBeforeName} { // people's certificates may be of either
		if ca, err := s.Store.Certificate(ctx, name); err == nil {
			set.Authorities, own = append(set.Authorities, ca.DER), append(own, ca.Leaf)
		}
	}
	if page := doc.Plan.Gateways[0].CodePage; page != nil && s.Shown != nil {
		if err := s.Shown(ctx, page.Shown(), page.Name); err != nil {
			return set, fmt.Errorf("the certificate of the code page: %w", err)
		}
	}
	for name, by := range Shows(&doc.Plan, set.Gateway) {
		pair, err := s.Store.Certificate(ctx, name)
		if err != nil {
			return set, fmt.Errorf("certificate %q: %w", name, err)
		}
		if revoked[pair.Leaf.SerialNumber.Text(16)] {
			return set, refusal.Invalid(fmt.Sprintf(
				"certificate %s, which %s shows, is revoked: make another one under that name (yl certificate make)", name, by[0]))
		}
		root := pair.Root
		for _, ca := range own {
			if pair.Leaf.CheckSignatureFrom(ca) == nil {
				root = ca.Raw
			}
		}
		set.Certificates[name] = gateway.Certificate{Chain: pair.Chain(), Key: pair.Key, Root: root}
	}
	return set, nil
}

// Shows is which certificates a gateway of a plan shows, by name, and by what; no gateway named: all of them.
func Shows(p *plan.Plan, of string) map[string][]string {
	out := map[string][]string{}
	for _, t := range p.Tunnels {
		if t.Off || of != "" && t.Gateway != of {
			continue
		}
		for _, name := range t.Certificates() {
			out[name] = append(out[name], "tunnel "+t.Name)
		}
	}
	for _, g := range p.Gateways {
		if g.CodePage != nil && (of == "" || g.Name == of) {
			out[g.CodePage.Shown()] = append(out[g.CodePage.Shown()], "the code page")
		}
	}
	return out
}
