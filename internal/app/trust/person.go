package trust

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/x509"
	"time"

	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/store"
)

// IssuePerson signs a certificate for a person's key.
func (s *Service) IssuePerson(ctx context.Context, user, device string, spki []byte) (*x509.Certificate, error) {
	ca, err := s.Store.Certificate(ctx, store.AuthorityName)
	if err != nil {
		return nil, err
	}
	ca.List = s.listURL(ca)
	leaf, err := ca.NewPerson(rand.Reader, time.Now(), user, spki)
	if err != nil {
		return nil, refusal.Mistaken(err)
	}
	name := "of " + user
	if device != "" {
		name += " on " + device
	}
	return leaf, s.Store.NoteIssued(ctx, name, leaf) // what nobody knows of can never be revoked
}

// OwnKey tells whether a public key is that of one of the certificates that are kept here, and of which.
func (s *Service) OwnKey(ctx context.Context, spki []byte) (name string, ok bool) {
	all, authority, err := s.Store.Trusted(ctx)
	if err != nil {
		return "", false
	}
	for name, c := range all {
		if bytes.Equal(c.RawSubjectPublicKeyInfo, spki) {
			return name, true
		}
	}
	return store.AuthorityName, authority != nil && bytes.Equal(authority.RawSubjectPublicKeyInfo, spki)
}
