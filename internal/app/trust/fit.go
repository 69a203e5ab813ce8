package trust

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/devices"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/site"
	"yellowlantern/internal/store"
)

// Fit is whom the certificates that a plan shows keep out.
type Fit struct {
	Tunnels map[string]Broken // by whose certificates nobody connects
	People  map[string]string // who can connect by no tunnel that they may use, and why
}

// Broken is why nobody connects by a tunnel, and what would mend it.
type Broken struct{ Why, Mend string }

// fitting holds the certificates that a plan's tunnels show against what people's devices were told: names, authorities, kinds of keys.
type fitting struct {
	m    *site.Model
	now  time.Time
	kits map[string][]store.Kit
	own  change
	kept func(name string) (*cert.Pair, error)
	good map[string][]*cert.Pair // by tunnel, those that devices take by their names and dates
	out  Fit
}

// Fits says whom the certificates keep out that are kept now. known may be nil: then people are not looked at.
func (s *Service) Fits(ctx context.Context, m *site.Model, known *reach.Known) (Fit, error) {
	return s.fits(ctx, m, known, func(name string) (*cert.Pair, error) { return s.Store.Certificate(ctx, name) })
}

func (s *Service) fits(ctx context.Context, m *site.Model, known *reach.Known, kept func(string) (*cert.Pair, error)) (Fit, error) {
	own, err := s.change(ctx)
	if err != nil {
		return Fit{}, err
	}
	kits, err := s.Store.Kits(ctx)
	if err != nil {
		return Fit{}, err
	}
	f := &fitting{m, time.Now(), kits, own, kept, map[string][]*cert.Pair{}, Fit{map[string]Broken{}, map[string]string{}}}
	for i := range m.Plan.Tunnels {
		if err := f.tunnel(&m.Plan.Tunnels[i]); err != nil {
			return Fit{}, err
		}
	}
	if known != nil {
		for _, c := range known.Classes {
			f.class(c)
		}
	}
	return f.out, nil
}

// shows tells whether a tunnel proves itself by a certificate. By a shared key both sides prove themselves by that.
func (f *fitting) shows(t *plan.Tunnel) bool {
	return !t.Off && t.Gateway == f.m.Gateway.Name && t.Login != plan.LoginSharedKey
}

func (f *fitting) tunnel(t *plan.Tunnel) error {
	if !f.shows(t) {
		return nil
	}
	var broken Broken
	dial := t.IdentityOr(f.m.Gateway.Dial)
	for _, name := range t.Certificates() {
		pair, err := f.kept(name)
		switch {
		case errors.Is(err, store.ErrNotFound):
			broken = Broken{"there is no certificate " + name, "yl certificate make " + name + " --for " + dial}
			continue
		case err != nil:
			return err
		}
		if p := cert.Problem(pair.Leaf, dial, f.now); p != "" {
			broken = Broken{fmt.Sprintf("certificate %s: %s", name, p), "yl certificate make " + name + " --for " + dial}
			for _, n := range cert.Names(pair.Leaf) {
				if n != dial {
					broken.Mend += " --for " + n
				}
			}
			if kind := cert.KindOf(pair.Leaf); kind == cert.RSA {
				broken.Mend += " --key-kind " + kind
			}
			continue
		}
		f.good[t.Name] = append(f.good[t.Name], pair)
	}
	if len(f.good[t.Name]) == 0 && broken.Why != "" {
		f.out.Tunnels[t.Name] = broken
	}
	return nil
}

// class looks at its people one by one: each has kits of their own.
func (f *fitting) class(c reach.Class) {
	if c.Passage == nil {
		return
	}
	for _, user := range c.Users {
		first := ""
		for _, name := range c.Passage.Tunnels {
			t := f.m.Names.Tunnels[name]
			if t == nil || t.Off || t.Gateway != f.m.Gateway.Name {
				continue
			}
			why := f.against(user, t)
			if why == "" {
				first = ""
				break
			}
			if first == "" {
				first = "tunnel " + name + ": " + why
			}
		}
		if first != "" {
			f.out.People[user] = first
		}
	}
}

// against is why somebody cannot connect by a tunnel; empty: nothing is known against it. Of whom no kit was made, nothing is known of what
// their devices were told.
func (f *fitting) against(user string, t *plan.Tunnel) (why string) {
	if !f.shows(t) {
		return ""
	}
	if b, is := f.out.Tunnels[t.Name]; is {
		return b.Why
	}
	for _, k := range f.kits[user] {
		p, _ := devices.Named(k.Platform)
		one := ""
		for _, pair := range f.good[t.Name] {
			if one = f.refuses(k, p, pair); one == "" {
				return ""
			}
		}
		why = one
	}
	return why
}

// refuses is why a device with a kit does not take a certificate.
func (f *fitting) refuses(k store.Kit, p devices.Platform, pair *cert.Pair) string {
	if kind := cert.KindOf(pair.Leaf); len(p.Takes) > 0 && !slices.Contains(p.Takes, kind) {
		return fmt.Sprintf("%s does not surely take a certificate with an %s key", p.Name, strings.ToUpper(kind))
	}
	root := pair.Top()
	if by := f.own.ours(pair.Leaf); by != nil {
		root = by.DER
	}
	if held := strings.Fields(k.Authorities); len(held) > 0 && !slices.Contains(held, cert.Fingerprint(root)) {
		return fmt.Sprintf("their kit for %s does not hold the authority that the certificate is of", p.Name)
	}
	return ""
}

// mayReplace tells whether a certificate may take the place of the one that is kept under a name at once: it may if nobody is kept out by
// it who is not now.
func (s *Service) mayReplace(ctx context.Context, name string, pair *cert.Pair) error {
	newest, err := s.Store.Newest(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	w, err := s.Wholes.Of(newest.Text)
	if err != nil {
		return nil // it does not run: nobody is shown anything
	}
	m, err := w.Model()
	if err != nil || len(s.usedBy(ctx)[name]) == 0 {
		return nil
	}
	known, err := w.Known(ctx)
	if err != nil {
		return err
	}
	now, err := s.Fits(ctx, m, known)
	if err != nil {
		return err
	}
	then, err := s.fits(ctx, m, known, func(asked string) (*cert.Pair, error) {
		if asked == name {
			return pair, nil
		}
		return s.Store.Certificate(ctx, asked)
	})
	if err != nil {
		return err
	}
	maps.DeleteFunc(then.Tunnels, func(t string, _ Broken) bool { return now.Tunnels[t].Why != "" })
	maps.DeleteFunc(then.People, func(u, _ string) bool { return now.People[u] != "" })
	if len(then.Tunnels)+len(then.People) == 0 {
		return nil
	}
	why := ""
	for _, t := range slices.Sorted(maps.Keys(then.Tunnels)) {
		why = cmp.Or(why, then.Tunnels[t].Why)
	}
	for _, u := range slices.Sorted(maps.Keys(then.People)) {
		why = cmp.Or(why, then.People[u])
	}
	return refusal.Because(refusal.Clashes, reason.Of(reason.WouldKeepOut, reason.With{
		reason.Certificate: name, reason.Tunnel: strings.Join(s.usedBy(ctx)[name], ", "), reason.Name: then.whom(), reason.What: why,
	}))
}

const mostNamed = 5 // people who are named in a sentence

// whom says who cannot connect.
func (f Fit) whom() string {
	if len(f.People) == 0 {
		return "whoever comes by tunnel " + strings.Join(slices.Sorted(maps.Keys(f.Tunnels)), ", ")
	}
	names := slices.Sorted(maps.Keys(f.People))
	more := ""
	if n := len(names) - mostNamed; n > 0 {
		names, more = names[:mostNamed], fmt.Sprintf(" and %d more", n)
	}
	return strings.Join(names, ", ") + more
}
