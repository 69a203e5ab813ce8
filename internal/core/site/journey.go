package site

import (
	"net/netip"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
)

// Step is what happened to a packet, or to its answer, at one station.
type Step struct {
	Station  string     `json:"station"`
	Back     bool       `json:"back" doc:"Whether this is about the answer."`
	OK       bool       `json:"ok"`
	Enforced bool       `json:"enforced" doc:"Whether the gateway enforces it; otherwise it is a fact about the surroundings."`
	Setting  string     `json:"setting" doc:"Path of the setting that decided."`
	Words    string     `json:"words"`
	Src      netip.Addr `json:"src" doc:"Source as the packet leaves the station."`
	Dst      netip.Addr `json:"dst"`
}

// Journey is one packet's way there and back.
type Journey struct {
	Packet   Packet `json:"-"`
	Steps    []Step `json:"steps" nullable:"false"`
	Arrives  bool   `json:"arrives" doc:"Gets through, and its answer comes back."`
	Enforced bool   `json:"enforced" doc:"Passes everything that the gateway enforces, whatever the surroundings do."`
	Answered bool   `json:"answered,omitempty" doc:"The gateway answers it by itself, and nothing of it goes further."`
}

// LostAt is the first step that loses the packet, nil if none does.
func (j *Journey) LostAt() *Step {
	for i := range j.Steps {
		if !j.Steps[i].OK {
			return &j.Steps[i]
		}
	}
	return nil
}

// Travel follows a packet of a person of the class through every station. It goes on past stations that the gateway
// does not enforce (and past the selectors), so that both sides of reach are known; past an enforced loss there is
// nothing more to follow.
func (m *Model) Travel(c *Class, p Packet, leased netset.Addrs, when When) Journey {
	t := traveller{m: m, j: Journey{Packet: p, Arrives: true, Enforced: true}, src: p.Src, dst: p.Dst}
	if !t.add(Admission, true, false, m.Admit(c)) {
		return t.j
	}
	if v, own := m.Keeps(c, p, leased); own {
		return t.answered(v)
	}
	t.add(Device, false, false, m.FromDevice(c, p))
	if !t.add(Source, true, false, m.FromLeased(c, p, leased)) {
		return t.j
	}
	t.add(Selectors, false, false, m.Selected(c, p))
	if _, v := m.Judge(c, p, when); !t.add(Rules, true, false, v) {
		return t.j
	}
	out, v := m.Route(p)
	if !t.add(Routing, true, false, v) {
		return t.j
	}
	src, v := m.Translate(p, out)
	if v.OK {
		t.src = src
	}
	if !t.add(Translating, true, false, v) {
		return t.j
	}
	if t.add(Onward, false, false, m.Carry(p, out)); t.j.Arrives {
		if t.add(Return, false, true, m.WayBack(p, out, src)); t.j.Arrives {
			t.src = p.Src
			t.add(State, true, true, pass("rules", "belongs to the flow that the packet opened; translation is undone"))
		}
	}
	return t.j
}

// traveller writes down a journey step by step.
type traveller struct {
	m        *Model
	j        Journey
	src, dst netip.Addr // as they are just now
}

// answered ends a journey at one of the gateway's own services.
func (t *traveller) answered(v Verdict) Journey {
	t.add(OwnServices, true, false, v)
	t.j.Answered, t.j.Arrives, t.j.Enforced = true, false, false
	return t.j
}

// add writes a step, and tells whether there is more to follow.
func (t *traveller) add(station string, enforced, back bool, v Verdict) bool {
	s := Step{
		Station: station, Back: back, OK: v.OK, Enforced: enforced, Setting: plan.OriginOf(t.m.taken, v.Setting), Words: v.Words,
		Src: t.src, Dst: t.dst,
	}
	if back {
		s.Src, s.Dst = t.dst, t.src
	}
	t.j.Steps = append(t.j.Steps, s)
	t.j.Arrives = t.j.Arrives && v.OK
	t.j.Enforced = t.j.Enforced && (v.OK || !enforced)
	return v.OK || !enforced
}
