package plan

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/url"
	"slices"
	"strings"
)

// SecretUse is where a plan sends what is made of a secret that is kept beside it. Whoever says where, could have the secret sent to
// themselves: so a secret counts only for where it was stored for.
type SecretUse struct {
	Secret string // its name
	Path   string // of the object that uses it
	To     []string
	// Authority is by whom its servers' certificates are, PEM; empty: the system's authorities.
	Authority string
}

// Digest stands for where it is sent: servers in any order, and by whom they are known.
func (u SecretUse) Digest() string {
	to := slices.Clone(u.To)
	slices.Sort(to)
	sum := sha256.Sum256([]byte(strings.Join(slices.Compact(to), "\n") + "\x00" + strings.Join(strings.Fields(u.Authority), "\n")))
	return hex.EncodeToString(sum[:])
}

// Servers are where it is sent, for people.
func (u SecretUse) Servers() string { return strings.Join(u.To, ", ") }

// SecretUses lists where the plan sends secrets: sources of people, the mail server, and those that keep the dialled name up to date.
func (p *Plan) SecretUses() (out []SecretUse) {
	for i := range p.Sources {
		if u, ok := p.Sources[i].SecretUse(); ok {
			out = append(out, u)
		}
	}
	if p.MailSecret != "" {
		out = append(out, SecretUse{p.MailSecret, "mail-server", []string{p.MailServer}, p.MailCA})
	}
	for _, g := range p.Gateways {
		at := "gateways/" + g.Name + "/outside/"
		if u := g.Outside.Update; u != nil && u.Key != "" {
			out = append(out, SecretUse{u.Key, at + "update", []string{u.Server}, ""})
		}
		for _, c := range g.Outside.Calls {
			if c.Secret != "" {
				out = append(out, SecretUse{c.Secret, at + "calls/" + c.Name, []string{calledAt(c.URL)}, ""})
			}
		}
	}
	return out
}

// calledAt is which server an HTTP call goes to.
func calledAt(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return address
	}
	return u.Scheme + "://" + u.Host
}

// SecretUse is where a source is sent the secret that the service proves itself with; false: it has none.
func (s *Source) SecretUse() (SecretUse, bool) {
	to := slices.Clone(s.Servers)
	if s.Kind == KindRADIUS {
		to = append(to, s.RADIUS().Accounting...)
	}
	return SecretUse{s.Secret, fmt.Sprintf("sources/%s", s.Name), to, s.Authority}, s.Secret != ""
}
