package standing

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"strings"
	"time"

	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/fold"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/seen"
	"yellowlantern/internal/mirror"
	"yellowlantern/internal/store"
)

// Evidence is what a mirror elsewhere saw of the gateway, with what follows from it.
type Evidence struct {
	seen.Evidence
	Points []Point `json:"points" nullable:"false" doc:"What follows from it."`
}

// Elsewhere refuses a mirror that is on this machine.
func Elsewhere(ctx context.Context, address string) error { return mirror.Elsewhere(ctx, address) }

// AskMirror asks a mirror which address it sees, and whether the ports of the newest revision are reached from there. What it saw is kept,
// and is among points, findings and journeys from then on.
func (s *Service) AskMirror(ctx context.Context, address, token string) (Evidence, error) {
	p, revision, err := s.newest(ctx)
	if err != nil {
		return Evidence{}, err
	}
	g := p.Gateways[0]
	if err := s.Elsewhere(ctx, address); err != nil {
		return Evidence{}, refusal.Invalid(err.Error())
	}
	r, err := mirror.Ask(ctx, address, token, g.Outside.Addresses, seen.PortsOf(p, g.Name))
	if err != nil {
		return Evidence{}, refusal.Invalid(err.Error())
	}
	e := Evidence{Evidence: seen.Evidence{At: time.Now().UTC(), Mirror: address, Revision: revision, Seen: r.Seen, Knocked: r.Knocked}}
	e.Points = points(e.Follows(p, g))
	return e, s.Store.KeepSeen(ctx, &e.Evidence)
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
		if err == nil && (d.Addr().IsUnspecified() || slices.Contains(now.Gateways[0].Outside.Addresses, fold.Addr(d.Addr()))) {
			p.State = Risky
		}
	}
	if p.State == Risky {
		p.Words += ", which is the outside too: everybody may try passwords"
		p.Mend = "--listen-tls with an address of the inside, or a rule of the machine's own for who gets there"
	}
	return []Point{p}
}

// points is what follows, as points.
func points(all []seen.Consequence) (out []Point) {
	for _, c := range all {
		p := Point{Name: "ports", State: Right, Words: c.Words, Mend: c.Mend}
		switch c.Kind {
		case seen.AsPlanned, seen.Elsewhere, seen.Moved:
			p.Name = "outside"
		}
		switch c.Kind {
		case seen.Elsewhere, seen.AllShut:
			p.State, p.Setting = Wrong, c.Path
		case seen.Moved, seen.Shut:
			p.State, p.Setting = Risky, c.Path
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

// fromOutside is what a mirror saw last, and what follows from it for the plan of now.
func (s *Service) fromOutside(ctx context.Context) (out []Point) {
	e, err := s.Store.SeenFromOutside(ctx)
	if err != nil || e == nil || time.Since(e.At) > seen.Old {
		return nil
	}
	p, _, err := s.newest(ctx)
	if err != nil {
		return nil
	}
	out = points(e.Follows(p, p.Gateways[0]))
	for i := range out {
		out[i].Words += ", " + e.At.Local().Format(time.DateTime)
	}
	return out
}
