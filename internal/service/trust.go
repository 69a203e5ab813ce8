package service

import (
	"context"
	"crypto/rand"
	"crypto/x509"
	"errors"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/store"
)

// Certificate is a certificate that is kept beside the plan.
type Certificate struct {
	Name    string    `json:"name"`
	Holds   []string  `json:"holds" nullable:"false" doc:"The names that it is good for."`
	Expires time.Time `json:"expires"`
}

func (s *Service) trustRoutes() {
	register(s, "GET", "/certificates", "list-certificates", "All certificates", s.certificates)
	register(s, "POST", "/certificates/{name}", "make-certificate", "Make a certificate by the service's own authority, in place of an older one", func(ctx context.Context, in *struct {
		Named
		Body struct {
			For []string `json:"for" minItems:"1" nullable:"false" doc:"Names and addresses that people dial."`
		}
	}) (*body[Certificate], error) {
		c, err := s.MakeCertificate(ctx, in.Name, in.Body.For...)
		return answer(c), err
	})
	register(s, "GET", "/authority", "authority", "The authority's certificate, PEM, for people's devices", func(ctx context.Context, _ *struct{}) (*body[struct {
		PEM string `json:"pem"`
	}], error) {
		out := &body[struct {
			PEM string `json:"pem"`
		}]{}
		ca, err := s.Store.Certificate(ctx, store.AuthorityName)
		if err == nil {
			out.Body.PEM = string(ca.PEM())
		}
		return out, err
	})
}

// EnsureAuthority makes the service's own authority at the first start.
func (s *Service) EnsureAuthority(ctx context.Context) error {
	_, err := s.Store.Certificate(ctx, store.AuthorityName)
	if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	ca, err := cert.NewAuthority(rand.Reader, time.Now(), "Yellow Lantern")
	if err != nil {
		return err
	}
	return s.Store.SaveCertificate(ctx, store.AuthorityName, ca)
}

// MakeCertificate makes and keeps a gateway's certificate.
func (s *Service) MakeCertificate(ctx context.Context, name string, dial ...string) (Certificate, error) {
	if name == store.AuthorityName {
		return Certificate{}, huma.Error422UnprocessableEntity("that name is the authority's own")
	}
	ca, err := s.Store.Certificate(ctx, store.AuthorityName)
	if err != nil {
		return Certificate{}, err
	}
	pair, err := ca.NewGateway(rand.Reader, time.Now(), dial...)
	if err != nil {
		return Certificate{}, huma.Error422UnprocessableEntity(err.Error())
	}
	if err := s.Store.SaveCertificate(ctx, name, pair); err != nil {
		return Certificate{}, err
	}
	return certificate(name, pair.Leaf), nil
}

func certificate(name string, c *x509.Certificate) Certificate {
	out := Certificate{Name: name, Holds: append([]string{}, c.DNSNames...), Expires: c.NotAfter}
	for _, ip := range c.IPAddresses {
		out.Holds = append(out.Holds, ip.String())
	}
	return out
}

func (s *Service) certificates(ctx context.Context, _ *struct{}) (*body[[]Certificate], error) {
	records, err := s.Store.Certificates(ctx)
	out := []Certificate{}
	for _, r := range records {
		if leaf, err := x509.ParseCertificate(r.DER); err == nil {
			out = append(out, certificate(r.Name, leaf))
		}
	}
	return answer(out), err
}
