package plan

import (
	"net/netip"
	"slices"

	"yellowlantern/internal/core/fold"
)

// CodePage is where people of held sessions give their code, through the tunnel.
type CodePage struct {
	Name      string       `json:"name" eg:"code.tern.example" doc:"The name by which people open it, with https. The gateway answers it to devices of held sessions, whatever other name servers say."`
	Addresses []netip.Addr `json:"addresses" nullable:"false" eg:"10.99.255.1" doc:"Its own addresses, one for each family that the pools have; nothing else has them." then:"Passages that ask for a second factor route them into the tunnel by themselves."`
	// Certificate is kept beside the plan.
	Certificate string `json:"certificate,omitempty" kept:"certificate" eg:"code" doc:"Name of its certificate, kept beside the plan. If none is kept under it, the own authority makes one, which devices with a kit trust; code if not given."`
}

// CodeCertificate is the name of the page's certificate where the plan gives none.
const CodeCertificate = "code"

// Shown is the name of its certificate.
func (c *CodePage) Shown() string {
	if c.Certificate == "" {
		return CodeCertificate
	}
	return c.Certificate
}

// SecondFactor is what people give beside what they log in with.
type SecondFactor struct {
	Asked bool `json:"asked,omitempty" doc:"Whoever comes in by the passage gives a code of their second factor as well." then:"Where the way of logging in has no room for it the session is held until it is given: it reaches the code page and nothing else."`
	// Of and NotFrom narrow whom it is asked of.
	Of      []string       `json:"of,omitempty" nullable:"false" ref:"groups" doc:"Only people in one of these groups are asked; not given: all."`
	NotFrom []netip.Prefix `json:"not-from,omitempty" nullable:"false" eg:"198.51.100.0/24" doc:"Places from where none is asked: the public addresses that devices are seen at."`
	// Waived is for whoever asks later why there is none.
	Waived string `json:"waived,omitempty" eg:"devices are handed out by us, and locked" doc:"Why none is asked for, where none is: it stays with the plan." then:"Without it a finding says that people come in by one factor alone."`
	// Remember is bound to a key: a password alone can be typed anywhere.
	Remember Duration `json:"remember,omitempty" eg:"168h" doc:"For how long a device that came in by a certificate or key of its own is not asked again, up to 2160h; not given: it is asked at each login." then:"Who comes by a password alone is asked each time."`
}

// Asks tells whether people in these groups are asked for a second factor, wherever they call from.
func (f SecondFactor) Asks(groups []string) bool {
	return f.Asked && (len(f.Of) == 0 || slices.ContainsFunc(groups, func(g string) bool { return slices.Contains(f.Of, g) }))
}

// Excepts tells whether none is asked for at a place.
func (f SecondFactor) Excepts(from netip.Addr) bool {
	return slices.ContainsFunc(f.NotFrom, func(p netip.Prefix) bool { return p.Contains(fold.Addr(from)) })
}

// PassageOf is the first passage that admits one of these groups; nil: none does. Who asks for many people asks Names.
func (p *Plan) PassageOf(groups []string) *Passage {
	for i := range p.Passages {
		x := &p.Passages[i]
		if !x.Off && slices.ContainsFunc(groups, func(g string) bool { return slices.Contains(x.Groups, g) }) {
			return x
		}
	}
	return nil
}
