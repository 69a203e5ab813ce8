package foreign

import (
	"crypto/x509"
	"encoding/asn1"
	"strings"

	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
)

var (
	subjectAltName = asn1.ObjectIdentifier{2, 5, 29, 17}
	// principalName is an otherName in which directories write by which name somebody logs in (their documents of certificates for
	// logging in call it user principal name).
	principalName = asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 311, 20, 2, 3}
	userID        = asn1.ObjectIdentifier{0, 9, 2342, 19200300, 100, 1, 1} // RFC 4519 §2.39
)

// Person is by which name a certificate's holder logs in. There must be exactly one where the plan says that it stands, and in the
// authority's domain, where it has one.
func (a *Authority) Person(c *x509.Certificate) (string, reason.Reason) {
	found := a.names(c)
	without := func(why string) (string, reason.Reason) {
		return "", reason.Of(reason.KeyNameless, reason.With{reason.Authority: a.Name, reason.Error: why})
	}
	switch {
	case len(found) == 0:
		return without("it holds no " + a.NameFrom())
	case len(found) > 1:
		return without("it holds several: " + strings.Join(found, ", "))
	}
	name := found[0]
	if a.Domain == "" {
		return name, reason.Reason{}
	}
	cut := strings.LastIndexByte(name, '@')
	if cut <= 0 || !strings.EqualFold(name[cut+1:], a.Domain) {
		return without(name + " is not of " + a.Domain)
	}
	return name[:cut], reason.Reason{}
}

// names are those at the place that the plan says, each once.
func (a *Authority) names(c *x509.Certificate) (out []string) {
	add := func(name string) {
		for _, have := range out {
			if strings.EqualFold(have, name) {
				return
			}
		}
		if name != "" {
			out = append(out, name)
		}
	}
	switch a.NameFrom() {
	case plan.NameFromMail:
		for _, m := range c.EmailAddresses {
			add(m)
		}
	case plan.NameFromPrincipal:
		for _, n := range principals(c) {
			add(n)
		}
	case plan.NameFromUserID, plan.NameFromCommon:
		of := commonName
		if a.NameFrom() == plan.NameFromUserID {
			of = userID
		}
		for _, n := range c.Subject.Names {
			if text, ok := n.Value.(string); ok && n.Type.Equal(of) {
				add(text)
			}
		}
	}
	return out
}

var commonName = asn1.ObjectIdentifier{2, 5, 4, 3}

// principals reads principal names out of the alternative names (RFC 5280 §4.2.1.6, otherName).
func principals(c *x509.Certificate) (out []string) {
	for _, e := range c.Extensions {
		if !e.Id.Equal(subjectAltName) {
			continue
		}
		var all asn1.RawValue
		if rest, err := asn1.Unmarshal(e.Value, &all); err != nil || len(rest) > 0 {
			continue
		}
		for rest := all.Bytes; len(rest) > 0; {
			var one asn1.RawValue
			var err error
			if rest, err = asn1.Unmarshal(rest, &one); err != nil {
				break
			}
			var other struct {
				ID    asn1.ObjectIdentifier
				Value asn1.RawValue // [0] EXPLICIT
			}
			if one.Class != asn1.ClassContextSpecific || one.Tag != 0 {
				continue
			}
			if _, err := asn1.UnmarshalWithParams(one.FullBytes, &other, "tag:0"); err != nil || !other.ID.Equal(principalName) {
				continue
			}
			var name string
			if _, err := asn1.Unmarshal(other.Value.Bytes, &name); err == nil {
				out = append(out, name)
			}
		}
	}
	return out
}
