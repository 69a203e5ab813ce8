package proofs

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/fold"
	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/seen"
	"yellowlantern/internal/core/site"
)

// JourneyAnswer is one packet's way there and back.
type JourneyAnswer struct {
	site.Journey
	User    string         `json:"user"`
	Class   string         `json:"class"`
	Packet  string         `json:"packet" doc:"The packet in words."`
	Flows   []forward.Flow `json:"flows" nullable:"false" doc:"Live flows of this user with that destination and service, with their counters."`
	Machine *inside.Looked `json:"machine,omitempty" doc:"Where the kernel of the gateway's machine would send it, beside what the plan says; only of what runs on a machine."`
	Live    string         `json:"live,omitempty" doc:"What the running gateway says of this user just now."`
	Verdict string         `json:"verdict" doc:"What becomes of it, in one sentence."`
	Fix     string         `json:"fix,omitempty"`
	Mend    []plan.Edit    `json:"mend,omitempty" nullable:"false" doc:"The fix as edits of the plan, where it wants no decision."`
}

// JourneyRequest says which packet is followed.
type JourneyRequest struct {
	Draft   string `query:"draft" doc:"Look at this draft in place of the newest revision."`
	From    string `query:"from" required:"true" doc:"User, or a group in place of one: group:NAME; a host or address where to is a person: what is opened from inside towards their device."`
	To      string `query:"to" required:"true" doc:"Host, DNS name or address; or a user or group:NAME, if from is a host."`
	Service string `query:"service" default:"tcp/80" doc:"Such as tcp/443, udp/53, ping."`
	Held    bool   `query:"held" doc:"As long as the session is held, before its person has given their second factor."`
	At      string `query:"at" doc:"The moment, for rules that have hours: 22:30 of today or 2026-12-24T22:30 in the plan's time zone, or with a zone as RFC 3339 has it; now if not given."`
}

// ManyJourneys says which packets are followed.
type ManyJourneys struct {
	Draft   string      `json:"draft,omitempty" doc:"Look at this draft in place of the newest revision."`
	Packets []OneOfMany `json:"packets" nullable:"false" minItems:"1" maxItems:"1000"`
}

// OneOfMany is one packet, as JourneyRequest has it.
type OneOfMany struct {
	From    string `json:"from" doc:"User, or group:NAME; or a host or address."`
	To      string `json:"to" doc:"Host, DNS name or address; or a user or group:NAME, if from is a host."`
	Service string `json:"service,omitempty" doc:"Such as tcp/443, udp/53, ping; tcp/80 if not given."`
	At      string `json:"at,omitempty" doc:"The moment, for rules that have hours, as there; now if not given."`
}

// JourneyResult is what becomes of one of many packets.
type JourneyResult struct {
	OneOfMany
	Arrives  bool   `json:"arrives" doc:"Gets through, and its answer comes back; or the gateway answers it by itself."`
	Enforced bool   `json:"enforced" doc:"Passes everything that the gateway enforces, whatever the surroundings do."`
	Station  string `json:"station,omitempty" doc:"Where it is lost."`
	Setting  string `json:"setting,omitempty" doc:"What decides there."`
	Verdict  string `json:"verdict" doc:"What becomes of it, in one sentence."`
	Problem  string `json:"problem,omitempty" doc:"Why it cannot be said of this packet; then nothing else is."`
}

// Journeys follows many packets. What is wrong with one is said of that one.
func (s *Service) Journeys(ctx context.Context, in ManyJourneys) ([]JourneyResult, error) {
	known, _, err := s.Plans.Known(ctx, in.Draft)
	if err != nil {
		return nil, err
	}
	out := make([]JourneyResult, 0, len(in.Packets))
	for _, p := range in.Packets {
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		p.Service = cmp.Or(p.Service, "tcp/80")
		r := JourneyResult{OneOfMany: p}
		j, err := s.journey(ctx, known, JourneyRequest{Draft: in.Draft, From: p.From, To: p.To, Service: p.Service, At: p.At})
		var refused *refusal.Error
		if errors.As(err, &refused) {
			r.Problem = refused.Words
		} else if err != nil {
			return nil, err
		}
		if lost := j.LostAt(); lost != nil {
			r.Station, r.Setting = lost.Station, lost.Setting
		}
		r.Arrives, r.Enforced, r.Verdict = j.Arrives || j.Answered, j.Enforced, j.Verdict
		out = append(out, r)
	}
	return out, nil
}

// Journey follows one packet there and back.
func (s *Service) Journey(ctx context.Context, in JourneyRequest) (JourneyAnswer, error) {
	known, _, err := s.Plans.Known(ctx, in.Draft)
	if err != nil {
		return JourneyAnswer{}, err
	}
	return s.journey(ctx, known, in)
}

func (s *Service) journey(ctx context.Context, known *reach.Known, in JourneyRequest) (JourneyAnswer, error) {
	m := known.Model
	who, place := in.From, in.To
	groups, err := groupsOf(known, in.From)
	inward := false
	if err != nil {
		g, other := groupsOf(known, in.To)
		_, noPlace := Destination(m, in.From)
		switch {
		case other == nil:
			groups, err, inward, who, place = g, nil, true, in.To, in.From
		case noPlace == nil: // from a place: then it is the person who is not there
			err = other
		}
	}
	if err != nil {
		return JourneyAnswer{}, err
	}
	dsts, err := Destination(m, place)
	if err != nil {
		return JourneyAnswer{}, err
	}
	set, ok := m.Names.Service(in.Service)
	if !ok {
		return JourneyAnswer{}, refusal.Invalid(fmt.Sprintf("%q is no service: give a name from the plan, or tcp/443, udp/53, ping",
			in.Service))
	}
	c := m.Class(groups)
	p := PacketFor(c, dsts, set)
	leased := netset.Addrs{}
	if p.Src.IsValid() {
		leased = netset.OfAddrs(p.Src)
	}
	at, err := moment(m, in.At)
	if err != nil {
		return JourneyAnswer{}, err
	}
	out := JourneyAnswer{User: who, Class: c.Name(), Packet: fmt.Sprintf("%s to %s", p.Service, m.Place(p.Dst))}
	if in.Held && (inward || c.Passage == nil || !c.Passage.Factor.Asks(groups)) {
		return JourneyAnswer{}, refusal.Invalid("no session of theirs is held: their passage asks for no second factor, or it is about what is opened from inside, of which nothing gets into a session that is held")
	}
	if inward {
		out.Packet = fmt.Sprintf("%s from %s to the device of %s", p.Service, m.Place(p.Dst), who)
		p.Src, p.Dst = p.Dst, p.Src
		out.Journey = m.TravelInward(c, p, leased, site.At(at))
	} else if in.Held {
		out.Journey = m.TravelHeld(c, p, leased)
	} else {
		out.Journey = m.Travel(c, p, leased, site.At(at))
	}
	if err := s.fromOutside(ctx, &out, m); err != nil {
		return JourneyAnswer{}, err
	}
	s.addLive(&out, p, inward, in.Draft)
	if to := p.Dst; in.Draft == "" {
		if inward {
			to = p.Src
		}
		if !m.OwnAddresses().Contains(to) {
			out.Machine = s.Gateway.Lookup(to)
		}
	}
	lost := out.LostAt()
	if lost != nil && lost.Station == "outside" {
		out.Verdict = "nobody arrives at the gateway: " + lost.Words
	} else if out.Answered {
		out.Verdict = "answered by the gateway itself: " + out.Steps[len(out.Steps)-1].Words
	} else if lost != nil {
		out.Verdict = fmt.Sprintf("lost at %s: %s", lost.Station, lost.Words)
		if lost.Back {
			out.Verdict = fmt.Sprintf("gets there, but the answer is lost at %s: %s", lost.Station, lost.Words)
		}
		if out.Fix = reach.Fix(m, c, p, lost.Station, lost.Setting, true, inward); lost.Station == site.Held {
			out.Fix = "let them give their second factor on the code page"
		}
		out.Mend = reach.MendAll(m, c, p, out.Journey, inward)
		if e := reach.ForbiddenBy(m, reach.Class{Class: c, Users: []string{who}}, p, inward); e != nil {
			out.Fix, out.Mend = fmt.Sprintf("nothing is to be mended: expectation %s says that it must not be reached", e.Name), nil
		}
	} else {
		out.Verdict = "gets there, and the answer comes back"
		if x := out.Machine; x != nil && !x.Same {
			out.Arrives = false
			out.Verdict = fmt.Sprintf("goes astray at the gateway's machine: the plan sends it %s, and the machine sends it %s",
				x.Planned, x.Way)
			out.Fix = fmt.Sprintf("take the machine's own route away (ip route get %s), or correct the gateway's routes", p.Dst)
		}
	}
	return out, nil
}

// moment reads when a journey is; empty: now.
func moment(m *site.Model, text string) (time.Time, error) {
	now := m.Local(time.Now())
	if text == "" {
		return now, nil
	}
	if t, err := time.Parse(time.RFC3339, text); err == nil {
		return t, nil
	}
	if t, err := time.ParseInLocation("2006-01-02T15:04", strings.Replace(text, " ", "T", 1), now.Location()); err == nil {
		return t, nil
	}
	if t, err := time.ParseInLocation("15:04", text, now.Location()); err == nil {
		return time.Date(now.Year(), now.Month(), now.Day(), t.Hour(), t.Minute(), 0, 0, now.Location()), nil
	}
	return now, refusal.Invalid(fmt.Sprintf(
		"%q is no moment: write 22:30 or 2026-12-24T22:30, in the plan's time zone (%s), or RFC 3339", text, now.Location()))
}

// fromOutside puts before all stations whether the gateway is reached at all, where somebody looked: a mirror elsewhere.
func (s *Service) fromOutside(ctx context.Context, out *JourneyAnswer, m *site.Model) error {
	e, err := s.Store.SeenFromOutside(ctx)
	if err != nil || e == nil || time.Since(e.At) > seen.Old {
		return err
	}
	first := site.Step{Station: "outside", OK: true}
	for _, c := range e.Follows(m.Plan, *m.Gateway) {
		if lost := c.Kind == seen.Elsewhere || c.Kind == seen.AllShut; lost && first.OK {
			first.OK, first.Words, first.Setting = false, c.Words, c.Path
			out.Fix, out.Mend = c.Mend, c.Edits
		} else if first.OK {
			first.Setting = c.Path
			first.Words = strings.TrimPrefix(first.Words+"; "+c.Words, "; ")
		}
	}
	if first.Words != "" {
		first.Words += fmt.Sprintf(" (%s)", e.At.UTC().Format("2006-01-02 15:04 UTC"))
		out.Steps = append([]site.Step{first}, out.Steps...)
		out.Arrives = out.Arrives && first.OK
	}
	return nil
}

// addLive adds what the running gateway knows of the packet's flow. A draft does not run, and a group has no session.
func (s *Service) addLive(out *JourneyAnswer, p site.Packet, inward bool, draft string) {
	out.Flows = []forward.Flow{}
	if draft != "" || strings.HasPrefix(out.User, "group:") {
		return
	}
	peer := p.Dst
	if inward {
		peer = p.Src
	}
	sessions, held := 0, 0
	for _, x := range s.Gateway.Sessions() {
		if x.User == out.User {
			sessions++
			if x.Held {
				held++
			}
		}
	}
	if sessions == 0 {
		out.Live = out.User + " is not connected now"
		return
	}
	if held == sessions {
		out.Live = out.User + " is connected, and held until they give their second factor: until then this packet goes no further than the gateway"
		return
	}
	out.Flows = s.Gateway.Flows(out.User, peer, p.Service.String(), 20)
	if out.Live = fmt.Sprintf("%s is connected; no such flow is open", out.User); len(out.Flows) > 0 {
		out.Live = fmt.Sprintf("%s is connected; %d such flows are open", out.User, len(out.Flows))
	}
}

func groupsOf(known *reach.Known, who string) ([]string, error) {
	if g, ok := strings.CutPrefix(who, "group:"); ok {
		if known.Model.Names.Groups[g] == nil {
			return nil, refusal.Missing(fmt.Sprintf("there is no group %q", g))
		}
		return []string{g}, nil
	}
	for _, p := range known.People() {
		if p.User == who {
			return p.Groups, nil
		}
	}
	return nil, refusal.Missing(fmt.Sprintf("there is no active user %q; for a group say group:NAME", who))
}

// Destination finds what a person means: a host of the plan, its DNS name, or an address.
func Destination(m *site.Model, to string) ([]netip.Addr, error) {
	if h := m.Names.Hosts[to]; h != nil {
		return h.Some(), nil
	}
	for _, h := range m.Plan.Hosts {
		if h.DNS == to {
			return h.Some(), nil
		}
	}
	if a, err := netip.ParseAddr(to); err == nil && a.Is4In6() { // on a wire it is one of IPv6, and never routed
		return nil, refusal.Invalid(fmt.Sprintf("%s is an IPv4 address written as one of IPv6, which no packet carries: give %s", to,
			fold.Addr(a)))
	} else if err == nil && a.Zone() == "" {
		return []netip.Addr{a}, nil
	}
	return nil, refusal.Missing(fmt.Sprintf("%q is no host of the plan, no DNS name of one, and no address", to))
}

// PacketFor picks address and source of a family that the pool has.
func PacketFor(c *site.Class, dsts []netip.Addr, set netset.Services) site.Packet {
	p := site.Packet{Dst: dsts[0]}
	if c.Passage != nil {
	search:
		for _, d := range dsts {
			for _, s := range c.Passage.Pool {
				if s.From.Is4() == d.Is4() {
					p.Dst, p.Src = d, s.From
					break search
				}
			}
		}
	}
	own := netset.Opening6
	if p.Dst.Is4() {
		own = netset.Opening4
	}
	if fit := set.Intersect(own); len(fit) > 0 {
		set = fit
	}
	p.Service, _ = set.Example()
	return p
}
