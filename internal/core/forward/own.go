package forward

import (
	"time"

	"yellowlantern/internal/core/ownservice"
	"yellowlantern/internal/core/packet"
	"yellowlantern/internal/core/site"
)

// owned decides which of the gateway's own services a packet asks for. The session is locked.
func (s *attached) owned(m *site.Model, c *site.Class, p site.Packet) site.Own {
	if s.IsHeld() {
		return m.OwnedHeld(c, p, s.leased, s.DNS)
	}
	return m.Owned(p, s.leased)
}

// FromPage counts a packet of the code page's for whoever has the address that it is for; nil where nobody has.
func (e *Engine) FromPage(b []byte, now time.Time) *Session {
	info, err := packet.Parse(b)
	if err != nil {
		return nil
	}
	to := e.Sessions.At(info.Dst)
	if to == nil {
		return nil
	}
	to.Lock()
	defer to.Unlock()
	s := of(to)
	if s == nil {
		return nil
	}
	s.toPerson(b, now)
	return to
}

// serve answers what a device asks of the gateway's own services, as often as it gets other answers. The session is locked.
func (s *attached) serve(m *site.Model, own site.Own, b []byte, info packet.Info, now time.Time) Result {
	if own == site.OwnPage {
		return Result{Session: s.Session, Packet: b, Page: true}
	}
	told := ownservice.Told{
		Server: ownAddress(m, info.Src.Is4()), DNS: s.DNS, Domains: s.Domains, Routes: s.Routes, Full: s.class.Passage.Passage.Routes.Full, MTU: s.Fits(),
	}
	if page := m.Gateway.CodePage; page != nil {
		told.Page, told.PageAt = page.Name, page.Addresses
	}
	answer := ownservice.DHCP
	switch own {
	case site.OwnRouters:
		answer = ownservice.Routers
	case site.OwnNames:
		answer = ownservice.Names
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
