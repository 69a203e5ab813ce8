package forward

import (
	"cmp"
	"net/netip"
	"slices"
	"time"

	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/site"
)

// Flow is what is known of a live flow.
type Flow struct {
	Gateway   string    `json:"gateway"`
	User      string    `json:"user"`
	Inward    bool      `json:"inward,omitempty" doc:"It was opened from inside."`
	Src       string    `json:"src" doc:"Address and port of whoever opened it."`
	Dst       string    `json:"dst"`
	Leaves    string    `json:"leaves,omitempty" doc:"The source as it leaves the gateway, where it is translated."`
	Service   string    `json:"service"`
	Rule      string    `json:"rule" doc:"The rule that lets it through."`
	Way       string    `json:"way" doc:"Attached network, or internet; empty: the gateway itself."`
	Opened    time.Time `json:"opened"`
	Sent      uint64    `json:"sent" doc:"Packets that the person sent."`
	SentBytes uint64    `json:"sent-bytes"`
	Got       uint64    `json:"got" doc:"Packets that went to the person."`
	GotBytes  uint64    `json:"got-bytes"`
	Words     string    `json:"words,omitempty" doc:"What is remarkable about it."`

	Ends inside.Flow `json:"-"` // as a kernel knows it
}

// FlowsWith lists live flows of users whom match lets through, and of these such with one end at peer and service, where those are
// given; the newest first, at most some.
func (e *Engine) FlowsWith(match func(user string) bool, peer netip.Addr, service string, most int) []Flow {
	out := []Flow{}
	for _, s := range e.Sessions.All() {
		if !match(s.User) {
			continue
		}
		s.Lock()
		for _, f := range flowsOf(s) {
			if (!peer.IsValid() || f.back.dst == peer) && (service == "" || f.first.Service.String() == service) {
				one := f.describe()
				one.Ends = f.ends()
				out = append(out, one)
			}
		}
		s.Unlock()
	}
	slices.SortFunc(out, func(a, b Flow) int { return cmp.Or(b.Opened.Compare(a.Opened), cmp.Compare(a.Src, b.Src)) })
	return out[:min(len(out), most)]
}

// flowsOf is a session's flows. The session is locked.
func flowsOf(s *Session) map[flowKey]*flow {
	if h := of(s); h != nil {
		return h.flows
	}
	return nil
}

func (f *flow) describe() Flow {
	end := func(a netip.Addr, port uint16) string {
		switch f.first.Service.Proto() {
		case 6, 17:
			return netip.AddrPortFrom(a, port).String()
		}
		return a.String()
	}
	out := Flow{
		Gateway: f.session.Gateway, User: f.session.User, Inward: f.inward, Src: end(f.key.src, f.key.srcPort), Dst: end(f.key.dst, f.key.dstPort), Service: f.first.Service.String(), Rule: f.rule,
		Way: f.out.Network, Opened: f.opened, Sent: f.sent.packets, SentBytes: f.sent.bytes, Got: f.got.packets, GotBytes: f.got.bytes,
	}
	switch {
	case f.inward:
		out.Src, out.Dst = end(f.back.dst, f.back.dstPort), out.Src
		if f.translated() {
			out.Leaves = end(f.key.dst, f.key.dstPort)
		}
	case f.translated():
		out.Leaves = end(f.back.src, f.back.srcPort)
	}
	switch {
	case f.out.Self:
	case !f.inward && f.sent.packets > 2 && f.got.packets == 0:
		out.Words = "sent, and nothing comes back: it left the gateway for " + nextOf(*f.out)
	case f.inward && f.got.packets > 2 && f.sent.packets == 0:
		out.Words = "opened from inside, and the person's device does not answer"
	case f.over.reset:
		out.Words = "reset: one side refuses it"
	}
	return out
}

func nextOf(out site.Egress) string {
	if out.NextHop.IsValid() {
		return "router " + out.NextHop.String() + " on " + out.Network
	}
	return out.Network
}
