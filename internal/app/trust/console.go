package trust

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"fmt"
	"sync"
	"time"

	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/store"
)

// Shown is a certificate that this service shows itself.
type Shown struct {
	trust *Service
	name  string

	mu      sync.Mutex
	version uint64 // of what is kept, when shown was read
	shown   *tls.Certificate
}

// What shows certificates beside tunnels, in lists.
const (
	ByConsole = "console and API"
	ByKits    = "pages of kits"
	ByCode    = "code page"
)

// Show takes a certificate that is kept under a name to be shown by console and API, or by the pages of kits, good for these names and
// addresses. Where there is none, one of the own authority is made; it is renewed like others, and what is imported in its place is shown
// from then on.
func (s *Service) Show(ctx context.Context, by, name string, names []string) (*Shown, error) {
	if err := s.Keep(ctx, by, name, names); err != nil {
		return nil, err
	}
	s.showing.Lock()
	defer s.showing.Unlock()
	if s.shown == nil {
		s.shown = map[string]string{}
	}
	s.shown[name], s.console = by, s.console || by == ByConsole
	return &Shown{trust: s, name: name}, nil
}

// Keep makes sure that a certificate is kept under a name, as Show does.
func (s *Service) Keep(ctx context.Context, by, name string, names []string) error {
	if store.OfAuthority(name) {
		return errAuthority
	}
	pair, err := s.Store.Certificate(ctx, name)
	switch {
	case errors.Is(err, store.ErrNotFound):
		ca, err := s.Store.Certificate(ctx, store.AuthorityName)
		if err != nil {
			return err
		}
		made, err := ca.NewGateway(rand.Reader, time.Now(), names...)
		if err != nil {
			return err
		}
		if err := s.Store.Issue(ctx, name, made); err != nil {
			return err
		}
		s.Running.Journal.Tell(reason.Of(reason.CertificateMade, reason.With{
			reason.Certificate: name, reason.Administrator: by,
		}), "")
	case err != nil:
		return err
	default:
		for _, n := range names {
			if why := cert.Problem(pair.Leaf, n, time.Now()); why != "" {
				s.Running.Log.Warn("browsers will warn of a certificate", "of", by, "certificate", name, "asked as", n, "problem", why)
			}
		}
	}
	return nil
}

// shownBy is what shows a certificate beside tunnels; empty: nothing does.
func (s *Service) shownBy(name string) string {
	s.showing.Lock()
	defer s.showing.Unlock()
	return s.shown[name]
}

// byConsole tells whether console and API are open with TLS.
func (s *Service) byConsole() bool {
	s.showing.Lock()
	defer s.showing.Unlock()
	return s.console
}

// Certificate gives it as it is kept now (tls.Config.GetCertificate).
func (c *Shown) Certificate(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	version := c.trust.Store.TrustVersion()
	if c.shown != nil && c.version == version {
		return c.shown, nil
	}
	ctx, stop := context.WithTimeout(context.Background(), 5*time.Second)
	defer stop()
	pair, err := c.trust.Store.Certificate(ctx, c.name)
	if err != nil {
		return nil, fmt.Errorf("certificate %s: %w", c.name, err)
	}
	c.shown = &tls.Certificate{Certificate: pair.Chain(), PrivateKey: pair.Key, Leaf: pair.Leaf}
	c.version = version
	return c.shown, nil
}
