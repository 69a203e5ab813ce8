package forward

import (
	"time"

	"yellowlantern/internal/core/ownservice"
	"yellowlantern/internal/core/packet"
	"yellowlantern/internal/core/site"
)

// serve answers what a device asks of the gateway's own services, as often as it gets other answers. The session is locked.
func (s *held) serve(m *site.Model, own site.Own, b []byte, info packet.Info, now time.Time) Result {
	told := ownservice.Told{
		Server: ownAddress(m, info.Src.Is4()), DNS: s.DNS, Domains: s.Domains, Routes: s.Routes, Full: s.class.Passage.Passage.Routes.Full, MTU: s.MTU,
	}
	answer := ownservice.DHCP
	if own == site.OwnRouters {
		answer = ownservice.Routers
	}
	reply, ok := answer(b, info, told)
	if second := now.Unix(); s.answersAt != second {
		s.answersAt, s.answers = second, 0
	}
	if s.answers++; !ok || s.answers > answersMost {
		return s.lose(site.OwnServices, site.Ref{List: "passages", Name: s.class.Passage.Name, Field: "routes"})
	}
	return Result{Session: s.Session, Packet: s.toPerson(reply, now)}
}
