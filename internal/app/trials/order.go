package trials

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"

	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/site"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/store"
)

// Order says what a probe is to try for a user.
// group is one that they are in, where they are of a source that judges logins alone and were not here yet; empty: it is not said.
func (s *Service) Order(ctx context.Context, user, group string) (probe.Order, error) {
	known, number, err := s.Plans.Known(ctx, "")
	if err != nil {
		return probe.Order{}, err
	}
	o, err := OrderOf(known, user)
	if err != nil { // who was not seen yet may be somebody of a source
		name, groups, none := s.People.Find(ctx, user)
		switch {
		case errors.Is(none, store.ErrNotFound) && group != "" && known.Model.Names.Groups[group] != nil:
			name, groups = user, []string{group}
		case errors.Is(none, store.ErrNotFound):
			return probe.Order{}, err
		case none != nil:
			return probe.Order{}, refusal.Mistaken(none)
		}
		in, i := known.Somebody(reach.Person{User: name, Groups: groups})
		o = OrderFor(known.Model, in.Classes[i], in.Reaches[i], name)
	}
	if o.Authority, err = s.Trust.Of(ctx, known.Model, o.Tunnel); err != nil {
		return probe.Order{}, err
	}
	o.Revision, o.Trouble = number, s.What.Troubles()
	if slices.Contains([]string{plan.LoginCertificate, plan.LoginBoth, plan.LoginEAPTLS}, o.Proof) {
		o.Service = s.At()
	}
	return *o, nil
}

// ProbeKit is a file by which a machine that has no access to the service probes, and connects, as a person.
type ProbeKit struct {
	Name   string `json:"name"`
	File   []byte `json:"file" doc:"What yl dial up and yl probe --kit read: JSON, with a signature by the own authority behind it (CMS, RFC 5652)."`
	Signer string `json:"signer" doc:"The fingerprint (SHA-256) of that authority, by which a device may be told beforehand whose kits to take."`
}

// MakeKit writes it. group is as in Order.
func (s *Service) MakeKit(ctx context.Context, user, group string) (ProbeKit, error) {
	o, err := s.Order(ctx, user, group)
	if err != nil {
		return ProbeKit{}, err
	}
	authorities, err := s.Trust.Signing(ctx)
	if err != nil {
		return ProbeKit{}, err
	}
	b, err := probe.WriteKit(o, authorities, func(b []byte) ([]byte, error) { return s.Trust.SignApart(ctx, b) })
	return ProbeKit{Name: user + ".kit", File: b, Signer: authorities[0]}, err
}

// OrderOf says what a probe is to try for a user; authority and revision are left to the caller.
func OrderOf(known *reach.Known, user string) (*probe.Order, error) {
	if i, ok := known.Named(user); ok {
		return OrderFor(known.Model, known.Classes[i], known.Reaches[i], user), nil
	}
	return nil, refusal.Missing(fmt.Sprintf("there is no active user %q", user))
}

// OrderFor says what a probe is to try for somebody of a class; user may be empty: nobody in particular.
func OrderFor(m *site.Model, class reach.Class, r reach.Reach, user string) *probe.Order {
	class.Users = []string{user}
	o := &probe.Order{
		User: user, Class: class.Name(), Dial: m.Gateway.Dial, Routes: []string{}, DNS: []netip.Addr{}, Domains: []string{}, Pool: []string{}, Outside: m.PublicAddresses(), Inside: m.OwnPrefixes(), Own: m.InsideOwn(), Trouble: []string{},
		Trials: append(append([]reach.Trial{}, reach.Trials(m, class, r)...), reach.Edges(m, class, r, reach.MostEdges)...),
	}
	if p := class.Passage; p != nil {
		o.Strict = p.Passage.Strict
		if page := m.Gateway.CodePage; page != nil && p.Factor.Asks(class.Groups) {
			o.CodePage = "https://" + page.Name + "/"
		}
		o.Admitted, o.Full, o.DNS = true, p.Passage.Routes.Full, append(o.DNS, p.DNS.Servers...)
		if !o.Full {
			o.Permitted = p.Routes.Prefixes()
		}
		o.Routes, o.Passage = append(o.Routes, p.Passage.Routes.Split...), p.Name
		o.Domains = append(append(o.Domains, p.DNS.Search...), p.DNS.Domains...)
		for _, x := range p.Pool.Prefixes() {
			o.Pool = append(o.Pool, x.String())
		}
	}
	if t := tunnelFor(m, class.Passage); t != nil {
		own := t.IKEv2()
		o.TCPPort, o.MTU = own.TCPPort, t.InnerMTU()
		o.Kind = t.Kind
		o.Tunnel, o.Identity, o.Keepalive = t.Name, t.IdentityOr(m.Gateway.Dial), int(own.Keepalive.Or(plan.DefaultKeepalive).Seconds())
		o.Algorithms = own.Set()
		if plan.WantsKey(t.Login) || t.Login == plan.LoginEAPTLS {
			o.Proof = t.Login
		}
		o.MixedIn = own.MixedIn
	}
	return o
}

// tunnelFor is the first tunnel of this gateway that a passage comes by; without a passage, the gateway's first.
func tunnelFor(m *site.Model, p *site.Passage) *plan.Tunnel {
	usable := func(t *plan.Tunnel) bool { return t != nil && !t.Off && t.Gateway == m.Gateway.Name }
	if p != nil {
		for _, name := range p.Tunnels {
			if t := m.Names.Tunnels[name]; usable(t) {
				return t
			}
		}
	}
	for i := range m.Plan.Tunnels {
		if t := &m.Plan.Tunnels[i]; usable(t) {
			return t
		}
	}
	return nil
}
