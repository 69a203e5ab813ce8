package trust

import (
	"context"
	"crypto/rand"
	"crypto/x509"
	"errors"
	"time"

	"yellowlantern/internal/enrol"
	"yellowlantern/internal/store"
)

// enrolmentName is under which name the certificate is kept by which devices seal what they ask for.
const (
	enrolmentName  = "enrolment"
	byEnrolment    = "enrolment of devices"
	enrolmentSpare = 30 * 24 * time.Hour
)

// Enrolment is who reads requests of devices for certificates and signs the answers, with the authority whose certificates they get.
func (s *Service) Enrolment(ctx context.Context) (enrol.Recipient, *x509.Certificate, error) {
	s.enrolling.Lock() // one is made, not two
	defer s.enrolling.Unlock()
	ca, err := s.Store.Certificate(ctx, store.AuthorityName)
	if err != nil {
		return enrol.Recipient{}, nil, err
	}
	pair, err := s.Store.Certificate(ctx, enrolmentName)
	switch {
	case err == nil && pair.Leaf.CheckSignatureFrom(ca.Leaf) == nil && time.Until(pair.Leaf.NotAfter) > enrolmentSpare:
	case err != nil && !errors.Is(err, store.ErrNotFound):
		return enrol.Recipient{}, nil, err
	default:
		if pair, err = ca.NewRecipient(rand.Reader, time.Now(), "enrolment of devices"); err == nil {
			err = s.Store.Issue(ctx, enrolmentName, pair)
		}
		if err != nil {
			return enrol.Recipient{}, nil, err
		}
	}
	s.showing.Lock()
	defer s.showing.Unlock()
	if s.shown == nil {
		s.shown = map[string]string{}
	}
	s.shown[enrolmentName] = byEnrolment
	return enrol.Recipient{Certificate: pair.Leaf, Key: pair.Key}, ca.Leaf, nil
}
