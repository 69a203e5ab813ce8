package authorities

import (
	"context"
	"crypto/x509"
	"encoding/pem"
	"slices"
	"strings"
	"time"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/foreign"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/revocation"
)

// OtherAuthority is an authority of a plan, and by what it is known which of its certificates are revoked.
type OtherAuthority struct {
	Name    string              `json:"name"`
	Holds   []string            `json:"holds" nullable:"false" doc:"The subjects of its certificates."`
	Until   time.Time           `json:"until" doc:"When the first of them ends."`
	Tunnels []string            `json:"tunnels" nullable:"false" doc:"That take its certificates."`
	How     string              `json:"how" doc:"How it is found out which are revoked."`
	Unknown string              `json:"when-unknown" doc:"What is done where that cannot be."`
	Sources []revocation.Source `json:"sources" nullable:"false"`
	Keys    int                 `json:"keys" doc:"Of how many devices certificates were seen."`
	Open    bool                `json:"open,omitempty" doc:"People come in although it cannot be found out whether their certificate is revoked."`
	Mend    string              `json:"mend,omitempty" doc:"What to do about it."`
	Problem string              `json:"problem,omitempty" doc:"Why nobody comes in by it, or may with a revoked one."`
}

// States tells of every authority of what runs, or of a draft.
func (s *Service) States(ctx context.Context, draft string) ([]OtherAuthority, error) {
	p, err := s.planOf(ctx, draft)
	if err != nil {
		return nil, err
	}
	keys, err := s.Store.Keys(ctx, "")
	if err != nil {
		return nil, err
	}
	out := []OtherAuthority{}
	for i := range p.Authorities {
		plain := &p.Authorities[i]
		st := OtherAuthority{
			Name: plain.Name, Holds: []string{}, Tunnels: []string{}, How: plain.FoundOut(), Unknown: plan.UnknownRefuse, Sources: []revocation.Source{},
		}
		if plain.Admits() {
			st.Unknown = plan.UnknownAdmit
		}
		for _, t := range p.Tunnels {
			if !t.Off && slices.Contains(t.Authorities, plain.Name) {
				st.Tunnels = append(st.Tunnels, t.Name)
			}
		}
		for _, k := range keys {
			if k.Authority == plain.Name && k.Revoked.IsZero() {
				st.Keys++
			}
		}
		a, err := s.of(plain)
		if err != nil {
			st.Problem, st.Mend = "its certificate will not do: "+err.Error(), "give the certificate of who issues people's"
			out = append(out, st)
			continue
		}
		st.Until = a.Ends()
		for _, c := range a.Certificates {
			st.Holds = append(st.Holds, c.Subject.String())
		}
		st.Sources = s.Known.Sources(ctx, a)
		st.looked(a)
		out = append(out, st)
	}
	return out, nil
}

const reach = "let this machine reach it, or give its list by hand: yl authorities give-list "

// looked says what is wrong with how it is known what is revoked, if anything is, and what to do.
func (st *OtherAuthority) looked(a *foreign.Authority) {
	switch {
	case time.Now().After(st.Until):
		st.Problem, st.Mend = "its certificate is over: nobody comes in by it", "put its newer certificate into the plan"
		return
	case len(st.Tunnels) == 0 || a.FoundOut() == plan.RevocationNone || len(st.Sources) == 0,
		slices.ContainsFunc(st.Sources, func(x revocation.Source) bool { return x.State == revocation.Fresh }):
		return
	}
	st.Open = a.Admits()
	st.Problem = "it cannot be found out what is revoked, so nobody comes in by it"
	if st.Open {
		st.Problem = "it cannot be found out what is revoked: people come in by it all the same"
	}
	for _, x := range st.Sources {
		if x.Failed != "" {
			st.Problem += " (" + x.From + ": " + x.Failed + ")"
			break
		}
	}
	st.Mend = reach + a.Name + " FILE"
}

// planOf is a draft's plan; without a name that of what runs.
func (s *Service) planOf(ctx context.Context, draft string) (*plan.Plan, error) {
	if draft == "" {
		if p := s.Running.Plan(); p != nil {
			return p, nil
		}
		return nil, refusal.Invalid("nothing runs yet: name a draft")
	}
	d, err := s.Plans.Draft(ctx, draft)
	if err != nil {
		return nil, err
	}
	doc, err := plan.Read(d.Text)
	if err != nil {
		return nil, refusal.Mistaken(err)
	}
	return &doc.Plan, nil
}

// one is an authority of a plan by its name.
func (s *Service) one(ctx context.Context, draft, name string) (*foreign.Authority, *plan.Plan, error) {
	p, err := s.planOf(ctx, draft)
	if err != nil {
		return nil, nil, err
	}
	for i := range p.Authorities {
		if p.Authorities[i].Name == name {
			a, err := s.of(&p.Authorities[i])
			if err != nil {
				return nil, nil, refusal.Invalid("the certificate of authority " + name + " will not do: " + err.Error())
			}
			return a, p, nil
		}
	}
	return nil, nil, refusal.Missing("the plan has no authority " + name + ": yl authorities list shows them")
}

// Fetch gets lists of an authority at once, and tells how that went.
func (s *Service) Fetch(ctx context.Context, name string) (OtherAuthority, error) {
	a, _, err := s.one(ctx, "", name)
	if err != nil {
		return OtherAuthority{}, err
	}
	s.Known.Refresh(ctx, a, true)
	return s.state(ctx, name)
}

// Give takes a revocation list by hand.
func (s *Service) Give(ctx context.Context, name, list string) (OtherAuthority, error) {
	a, _, err := s.one(ctx, "", name)
	if err != nil {
		return OtherAuthority{}, err
	}
	given, err := s.Known.Give(ctx, a, []byte(list))
	if err != nil {
		return OtherAuthority{}, refusal.Invalid("the list is not taken: " + err.Error())
	}
	s.Journal.Tell(reason.Of(reason.ListGiven, reason.With{
		reason.Authority: name, reason.Administrator: actor.Name(ctx), reason.When: given.This.UTC().Format(time.DateTime),
	}), "")
	return s.state(ctx, name)
}

func (s *Service) state(ctx context.Context, name string) (OtherAuthority, error) {
	all, err := s.States(ctx, "")
	for _, x := range all {
		if x.Name == name {
			return x, nil
		}
	}
	return OtherAuthority{}, err
}

// CertificateTrial is what would become of somebody who shows a certificate.
type CertificateTrial struct {
	Steps []CertificateStep `json:"steps" nullable:"false"`
	User  string            `json:"user,omitempty" doc:"Who would come in."`
	OK    bool              `json:"ok"`
}

// CertificateStep is one thing that is looked at.
type CertificateStep struct {
	What  string `json:"what"`
	OK    bool   `json:"ok"`
	Words string `json:"words"`
	Fix   string `json:"fix,omitempty"`
}

// Try holds a certificate (PEM, with those above it below it) against an authority of what runs, or of a draft, without anybody logging in:
// who stands behind it, what it is for, whom it names, whether it is revoked, and who would come in.
func (s *Service) Try(ctx context.Context, draft, name, text string) (CertificateTrial, error) {
	a, p, err := s.one(ctx, draft, name)
	if err != nil {
		return CertificateTrial{}, err
	}
	shown, err := read(text)
	if err != nil {
		return CertificateTrial{}, err
	}
	out := CertificateTrial{Steps: []CertificateStep{}}
	step := func(what string, ok bool, words, fix string) bool {
		if ok {
			fix = ""
		}
		out.Steps = append(out.Steps, CertificateStep{what, ok, words, fix})
		return ok
	}
	leaf := shown[0]
	chain, why := a.Chain(shown, time.Now())
	words := leaf.Subject.String()
	for _, c := range chain[min(1, len(chain)):] {
		words += ", below " + c.Subject.String()
	}
	if !why.None() {
		words = why.Words()
	}
	if !step("who stands behind it", why.None(), words, "choose the certificate that this authority issued, with those between both below it") {
		return out, nil
	}
	person, why := a.Person(leaf)
	if words = "it is " + person + "'s"; !why.None() {
		words = why.Words() + "; it holds " + strings.Join(cert.Names(leaf), ", ")
	}
	if !step("whom it names", why.None(), words, "set name-from and domain of authority "+name+" to where names stand") {
		return out, nil
	}
	u, err := s.People.Called(ctx, person)
	out.User = u.Name
	words = "the user " + u.Name + " is meant, of " + strings.Join(u.Groups, ", ")
	if err != nil {
		words = "no user is called " + person
	} else if u.Off {
		words = u.Name + " is switched off"
	}
	known := step("who that is here", err == nil && !u.Off, words, "add the user, or switch them on")
	v := s.Known.Judge(ctx, a, chain)
	words, ok := "it is not revoked, says "+v.Source, !v.Revoked && v.Unknown == ""
	switch {
	case v.Revoked:
		words = "it is revoked since " + v.Since.UTC().Format(time.DateTime) + ", says " + v.Source
	case v.Unknown != "":
		words, ok = "it cannot be found out: "+v.Unknown, a.Admits()
	}
	fix := "the person needs a new one from the authority"
	if !v.Revoked {
		fix = reach + name + " FILE"
	}
	fresh := step("whether it is revoked", ok, words, fix)
	var by []string
	for _, t := range p.Tunnels {
		if !t.Off && slices.Contains(t.Authorities, name) {
			by = append(by, t.Name)
		}
	}
	words = "it is taken by " + strings.Join(by, ", ")
	if len(by) == 0 {
		words = "no tunnel takes certificates of " + name
	}
	out.OK = step("by which tunnel", len(by) > 0, words, "add "+name+" to the authorities of a tunnel") && known && fresh
	return out, nil
}

// read reads a certificate and those above it.
func read(text string) (out []*x509.Certificate, err error) {
	for rest := []byte(text); ; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			break
		}
		if strings.Contains(block.Type, "PRIVATE") {
			return nil, refusal.Invalid("there is a private key in it: only the certificate is wanted; nothing was kept")
		}
		c, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			return nil, refusal.Invalid("that is no certificate: " + err.Error())
		}
		out = append(out, c)
	}
	if len(out) == 0 {
		return nil, refusal.Invalid("there is no certificate in it: give PEM, the person's first")
	}
	return out, nil
}
