package gateway

import (
	"bytes"
	"context"
	"fmt"
	"net/netip"
	"slices"
	"sync/atomic"
	"time"

	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/site"
)

// PageServer serves the code page.
type PageServer interface {
	// Take takes a packet for one of the page's addresses; the slice is not kept.
	Take(packet []byte)
	Close()
}

// Page is what a code page is served with.
type Page struct {
	Site, Name  string
	Addresses   []netip.Addr
	Certificate Certificate
	// Send sends a packet to whoever has the address that it is for. The slice is not kept.
	Send func(packet []byte)
	// Visitor is whose session an address is leased to now.
	Visitor func(netip.Addr) (Visitor, bool)
}

// Visitor is somebody at the code page.
type Visitor struct {
	User   string
	Banner string
	Held   bool
	// Give takes their code. It takes long.
	Give func(ctx context.Context, code string) login.Outcome
	// Touch asks for, or takes, what a security key does in place of a code, or that one is added, for which they give a code. It takes
	// long.
	Touch func(ctx context.Context, t login.Touch, code string) login.Outcome
	// Go ends that a session is held whose person has given a code, and was about to add a security key; nil: it is another.
	Go func()
	// Mail has one sent to them; nil: the plan lets nobody have codes by mail. It takes long.
	Mail func(ctx context.Context) login.Outcome
}

// page is the code page that is served now.
type page struct{ open atomic.Pointer[openPage] }

// openPage is one with what it was opened with.
type openPage struct {
	set    Page
	server PageServer
	used   bool // it was served already: a plan that is prepared and not used leaves it open
}

// take hands it a packet.
func (p *page) take(b []byte) {
	if o := p.open.Load(); o != nil {
		o.server.Take(b)
	}
}

// use serves another one, or the same again; nil: none.
func (p *page) use(o *openPage) {
	if o != nil {
		o.used = true
	}
	if was := p.open.Swap(o); was != nil && was != o {
		was.server.Close()
	}
}

// close closes one that never was served.
func (o *openPage) close() {
	if o != nil && !o.used {
		o.server.Close()
	}
}

// preparePage opens the code page that a plan has; the one that is served already where it is the same.
func (g *Gateway) preparePage(set Settings, m *site.Model) (*openPage, error) {
	p := m.Gateway.CodePage
	if p == nil || g.cfg.Page == nil || len(p.Addresses) == 0 {
		return nil, nil
	}
	c, ok := set.Certificates[p.Shown()]
	if !ok {
		return nil, fmt.Errorf("the code page has no certificate %s", p.Shown())
	}
	page := Page{
		Site: m.Plan.Name, Name: p.Name, Addresses: p.Addresses, Certificate: c, Send: g.fromPage, Visitor: g.visitor,
	}
	if now := g.page.open.Load(); now != nil && now.set.same(page) {
		return now, nil
	}
	server, err := g.cfg.Page(page)
	if err != nil {
		return nil, fmt.Errorf("the code page: %w", err)
	}
	return &openPage{set: page, server: server}, nil
}

func (p Page) same(o Page) bool {
	return p.Site == o.Site && p.Name == o.Name && slices.Equal(p.Addresses, o.Addresses) &&
		slices.EqualFunc(p.Certificate.Chain, o.Certificate.Chain, bytes.Equal)
}

// fromPage sends a packet of the code page's to whoever has the address that it is for.
func (g *Gateway) fromPage(b []byte) {
	if s := g.engine.FromPage(b, time.Now()); s != nil {
		g.toPerson(s, inside.Roomy(b))
	}
}

// visitor is who has an address.
func (g *Gateway) visitor(a netip.Addr) (Visitor, bool) {
	s := g.sessions.At(a)
	if s == nil {
		return Visitor{}, false
	}
	held, coded := s.Factor()
	v := Visitor{User: s.User, Held: held}
	v.Touch = func(ctx context.Context, t login.Touch, code string) login.Outcome { return g.touch(ctx, s, t, code) }
	if held && !coded.IsZero() {
		v.Go = func() { g.given(s, g.seenAt(s.Path().Where().Addr), login.Outcome{OK: true}) }
	}
	v.Give = func(ctx context.Context, code string) login.Outcome { return g.give(ctx, s, code) }
	if p := g.engine.Model().Plan; p.CodesByMail && p.MailServer != "" {
		v.Mail = func(ctx context.Context) login.Outcome { return g.mail(ctx, s) }
	}
	if c := g.engine.Model().Class(s.Groups); c.Passage != nil {
		v.Banner = c.Passage.Banner
	}
	return v, true
}
