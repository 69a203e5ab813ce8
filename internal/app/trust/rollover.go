package trust

import (
	"context"
	"crypto/rand"
	"crypto/x509"
	"errors"
	"strings"
	"time"

	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/store"
)

// Steps in which another authority takes the place of the own one, without anybody being left outside: it is announced, and kits hold both
// from then on; once people have such kits it signs, and everything that the older one signed for gateways is signed anew; at last the
// older one is forgotten.
const (
	stepAnnounce = "announce"
	stepSign     = "sign"
	stepFinish   = "finish"
	stepCancel   = "cancel"
)

// Rollover is how far the change of the own authority is.
type Rollover struct {
	State   string     `json:"state" enum:"none,announced,signs" doc:"none: there is one authority. announced: the next one is in kits, and signs nothing yet. signs: it does; the older one is believed still."`
	Present Authority  `json:"present" doc:"The one that signs."`
	Next    *Authority `json:"next,omitempty" doc:"That is to take its place."`
	Before  *Authority `json:"before,omitempty" doc:"Whose place it took."`
	People  []string   `json:"people,omitempty" nullable:"false" doc:"Who has certificates of the older one that count."`
}

// Authority is one that signs here.
type Authority struct {
	Fingerprint string    `json:"fingerprint" doc:"SHA-256 of its certificate."`
	Expires     time.Time `json:"expires"`
}

func authorityOf(p *cert.Pair) Authority {
	return Authority{cert.Fingerprint(p.DER), p.Leaf.NotAfter}
}

// kept gives a certificate, nil where there is none.
func (s *Service) kept(ctx context.Context, name string) (*cert.Pair, error) {
	p, err := s.Store.Certificate(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	return p, err
}

// change is the own authority with the one that is to follow it, and the one before; nil where there is none.
type change struct{ present, next, before *cert.Pair }

func (s *Service) change(ctx context.Context) (c change, err error) {
	if c.present, err = s.Store.Certificate(ctx, store.AuthorityName); err != nil {
		return c, err
	}
	if c.next, err = s.kept(ctx, store.NextAuthorityName); err != nil {
		return c, err
	}
	if c.next != nil && string(c.next.DER) == string(c.present.DER) { // it took the place, and a killed process did not get further
		c.next = nil
	}
	c.before, err = s.kept(ctx, store.AuthorityBeforeName)
	if c.before != nil && string(c.before.DER) == string(c.present.DER) { // it did not get as far as that
		c.before = nil
	}
	return c, err
}

// Rollover tells how far the change of the own authority is.
func (s *Service) Rollover(ctx context.Context) (Rollover, error) {
	c, err := s.change(ctx)
	if err != nil {
		return Rollover{}, err
	}
	out := Rollover{State: "none", Present: authorityOf(c.present)}
	if c.before != nil {
		a := authorityOf(c.before)
		out.State, out.Before = "signs", &a
		out.People, err = s.peopleOf(ctx, c.before.Leaf)
	}
	if c.next != nil {
		a := authorityOf(c.next)
		out.State, out.Next = "announced", &a
	}
	return out, err
}

// peopleOf are those who have certificates of an authority that count.
func (s *Service) peopleOf(ctx context.Context, authority *x509.Certificate) (out []string, err error) {
	keys, err := s.Store.Keys(ctx, "")
	for _, k := range keys {
		leaf, err := x509.ParseCertificate(k.Certificate)
		if err == nil && k.Revoked.IsZero() && time.Now().Before(k.Expires) && leaf.CheckSignatureFrom(authority) == nil {
			name := k.User
			if k.Device != "" {
				name += " (" + k.Device + ")"
			}
			out = append(out, name)
		}
	}
	return out, err
}

// RollOver takes a step: announce, sign, finish, or cancel. evenSo finishes although people have certificates of the older authority, which
// count until they end or are taken back all the same, but which their devices may not show any more.
func (s *Service) RollOver(ctx context.Context, step string, evenSo bool) (Rollover, error) {
	c, err := s.change(ctx)
	if err != nil {
		return Rollover{}, err
	}
	switch step {
	case stepAnnounce:
		err = s.announce(ctx, c)
	case stepSign:
		err = s.signs(ctx, c)
	case stepFinish:
		err = s.finish(ctx, c, evenSo)
	case stepCancel:
		if c.next == nil {
			err = refusal.Conflict("no other authority is announced")
		} else {
			err = s.Store.RemoveCertificate(ctx, store.NextAuthorityName)
		}
	default:
		err = refusal.Invalid("the steps are announce, sign, finish and cancel")
	}
	if err != nil {
		return Rollover{}, err
	}
	s.Running.Reload(ctx, reason.Of(reason.AuthorityChanges, byHand(ctx, "authority")).And(reason.With{reason.What: step}))
	return s.Rollover(ctx)
}

func (s *Service) announce(ctx context.Context, c change) error {
	switch {
	case c.next != nil:
		return refusal.Conflict("the next authority is announced already: yl certificate roll-over sign, or cancel")
	case c.before != nil:
		return refusal.Conflict("the change before is not finished: yl certificate roll-over finish")
	}
	next, err := cert.NewAuthority(rand.Reader, time.Now(), "Yellow Lantern")
	if err != nil {
		return err
	}
	return s.Store.SaveCertificate(ctx, store.NextAuthorityName, next)
}

// signs makes the next authority the own one. Each step leaves what a killed process comes back to: what is not signed anew yet is by
// Renew.
func (s *Service) signs(ctx context.Context, c change) error {
	if c.next == nil {
		return refusal.Conflict("no other authority is announced: yl certificate roll-over announce, then hand kits over that hold it")
	}
	for _, x := range []struct {
		name string
		pair *cert.Pair
	}{{store.AuthorityBeforeName, c.present}, {store.AuthorityName, c.next}} {
		if err := s.Store.SaveCertificate(ctx, x.name, x.pair); err != nil {
			return err
		}
	}
	if err := s.Store.RemoveCertificate(ctx, store.NextAuthorityName); err != nil {
		return err
	}
	return s.Renew(ctx, time.Now())
}

func (s *Service) finish(ctx context.Context, c change, evenSo bool) error {
	if c.before == nil {
		return refusal.Conflict("no authority is to be forgotten: the next one does not sign yet, or there is none")
	}
	all, _, err := s.Store.Trusted(ctx)
	if err != nil {
		return err
	}
	for name, leaf := range all {
		if leaf.CheckSignatureFrom(c.before.Leaf) == nil {
			return refusal.Conflict("certificate " + name + " is of the older authority: make it anew (yl certificate make " + name +
				"), or remove it")
		}
	}
	people, err := s.peopleOf(ctx, c.before.Leaf)
	if err != nil {
		return err
	}
	if len(people) > 0 && !evenSo {
		return refusal.Conflict("these have certificates of the older authority: " + strings.Join(people, ", ") +
			"; give them newer ones, or say --even-so: their devices may not find theirs any more")
	}
	return s.Store.RemoveCertificate(ctx, store.AuthorityBeforeName)
}

// ours tells whether an authority of the service's own signed a certificate, the present one or the one before.
func (c change) ours(leaf *x509.Certificate) *cert.Pair {
	for _, a := range []*cert.Pair{c.present, c.before} {
		if a != nil && leaf.CheckSignatureFrom(a.Leaf) == nil {
			return a
		}
	}
	return nil
}
