package standing

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/mirror"
	"yellowlantern/internal/store"
)

// Evidence is what a mirror elsewhere saw of the gateway.
type Evidence struct {
	At       time.Time        `json:"at"`
	Mirror   string           `json:"mirror"`
	Revision int              `json:"revision"`
	Seen     netip.Addr       `json:"seen" doc:"The address that the gateway's machine is seen at."`
	Knocked  []mirror.Knocked `json:"knocked" nullable:"false"`
	Points   []Point          `json:"points" nullable:"false" doc:"What follows from it."`
}

// AskMirror asks a mirror which address it sees, and whether the ports of the newest revision are reached from there. What it saw is among
// the points from then on.
func (s *Service) AskMirror(ctx context.Context, address, token string) (Evidence, error) {
	p, revision, err := s.newest(ctx)
	if err != nil {
		return Evidence{}, err
	}
	g := p.Gateways[0]
	r, err := mirror.Ask(ctx, address, token, g.Outside.Addresses, portsOf(p, g.Name))
	if err != nil {
		return Evidence{}, refusal.Invalid(err.Error())
	}
	e := Evidence{
		At: time.Now().UTC(), Mirror: address, Revision: revision, Seen: r.Seen, Knocked: r.Knocked, Points: follows(g, address, r),
	}
	s.evidence.Store(&e)
	return e, nil
}

// newest is the newest revision's plan, if it has a gateway.
func (s *Service) newest(ctx context.Context) (*plan.Plan, int, error) {
	newest, err := s.Store.Newest(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return nil, 0, refusal.Invalid("no plan is committed yet: there is nothing to look at from outside")
	}
	if err != nil {
		return nil, 0, err
	}
	doc, err := s.Wholes.Read(newest.Text)
	if err != nil || len(doc.Plan.Gateways) == 0 {
		return nil, 0, refusal.Invalid("the newest revision has no gateway")
	}
	return &doc.Plan, newest.Number, nil
}

// doors says where console and API are open with TLS: on the outside everybody may try passwords.
func (s *Service) doors(ctx context.Context) []Point {
	if len(s.Doors) == 0 {
		return nil
	}
	p := Point{Name: "console", State: Right, Words: "console and API are open with TLS at"}
	now, _, err := s.newest(ctx)
	for _, d := range s.Doors {
		p.Words += " " + d.String()
		if err == nil && (d.Addr().IsUnspecified() || slices.Contains(now.Gateways[0].Outside.Addresses, d.Addr().Unmap())) {
			p.State = Risky
		}
	}
	if p.State == Risky {
		p.Words += ", which is the outside too: everybody may try passwords"
		p.Mend = "--listen-tls with an address of the inside, or a rule of the machine's own for who gets there"
	}
	return []Point{p}
}

// portsOf are where a gateway's tunnels are dialled.
func portsOf(p *plan.Plan, gateway string) (out []mirror.Port) {
	for _, t := range p.Tunnels {
		kind := plan.KindOf(t.Kind)
		if t.Gateway != gateway || t.Off || kind.Ports == nil {
			continue
		}
		for _, at := range kind.Ports(t) {
			proto, number, _ := strings.Cut(at.String(), "/")
			x := mirror.Port{Proto: proto}
			if _, err := fmt.Sscan(number, &x.Port); err != nil {
				continue
			}
			x.Marked = x.Port == 4500 && proto == "udp"
			if !slices.Contains(out, x) {
				out = append(out, x)
			}
		}
	}
	return out
}

// follows says what follows from what a mirror saw of a gateway.
func follows(g plan.Gateway, from string, r mirror.Reflection) (out []Point) {
	public := g.Outside.Addresses
	setting := "gateways/" + g.Name + "/outside"
	if f := g.Outside.InFront; f != nil {
		public, setting = []netip.Addr{f.Address}, setting+"/in-front"
	}
	sameFamily := slices.ContainsFunc(public, func(a netip.Addr) bool { return a.Is4() == r.Seen.Is4() })
	switch {
	case slices.Contains(public, r.Seen):
		out = append(out, Point{Name: "outside", State: Right, Words: fmt.Sprintf("seen from %s at %s, as the plan says", from, r.Seen)})
	case sameFamily:
		p := Point{
			Name: "outside", State: Wrong, Setting: setting,
			Words: fmt.Sprintf("seen from %s at %s, and the plan says %s: who dials that arrives elsewhere", from, r.Seen, join(public)),
			Mend:  "correct the address; if a router in front translates, say so under in-front, with its forwards",
		}
		if g.Outside.Changes {
			p.State, p.Mend = Risky, "it changed since: the plan holds that day's, and the dialled name must lead to "+r.Seen.String()
		}
		out = append(out, p)
	}
	var reached, shut []string
	for _, k := range r.Knocked {
		switch k.Result {
		case mirror.Answers:
			reached = append(reached, k.String())
		case mirror.Open:
			shut = append(shut, k.String()+" (something else answers)")
		default:
			shut = append(shut, k.String()+" ("+k.Result+")")
		}
	}
	if len(reached) > 0 {
		out = append(out, Point{Name: "ports", State: Right, Words: strings.Join(reached, ", ") + " reached from " + from})
	}
	if len(shut) > 0 {
		p := Point{
			Name: "ports", State: Wrong, Setting: setting, Words: strings.Join(shut, ", ") + " not reached from " + from,
			Mend: "the machine's own packet rules (yl host check), the provider's filter",
		}
		if f := g.Outside.InFront; f != nil && len(g.Outside.Addresses) > 0 {
			p.Mend = fmt.Sprintf("the router in front (%s) must forward them to %s; then %s", f.Address, g.Outside.Addresses[0], p.Mend)
		}
		if len(reached) > 0 { // some devices get in
			p.State = Risky
		}
		out = append(out, p)
	}
	return out
}

func join(addrs []netip.Addr) string {
	var all []string
	for _, a := range addrs {
		all = append(all, a.String())
	}
	return strings.Join(all, ", ")
}

// old is for how long what a mirror saw says something of now.
const old = 30 * 24 * time.Hour

// fromOutside is what a mirror saw last.
func (s *Service) fromOutside() (out []Point) {
	e := s.evidence.Load()
	if e == nil || time.Since(e.At) > old {
		return nil
	}
	for _, p := range e.Points {
		p.Words += ", " + e.At.Local().Format(time.DateTime)
		out = append(out, p)
	}
	return out
}
