// Package trust keeps certificates, the service's own authority, and secrets that both ends of something know. Keys do not leave the
// store but for the gateway that shows their certificates.
package trust

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"math/big"
	"slices"
	"strings"
	"sync"
	"time"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/compiled"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/app/running"
	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/site"
	"yellowlantern/internal/store"
)

// Service keeps them.
type Service struct {
	Store   *store.Store
	Running *running.Service
	Wholes  *compiled.Cache
	// Names are what the service is called from elsewhere: the revocation list is fetched by the first.
	Names []string

	// Revoked is told of a certificate that was revoked.
	Revoked func(ctx context.Context, serial string)

	enrolling sync.Mutex
	showing   sync.Mutex        // guards what follows
	console   bool              // console and API speak TLS
	shown     map[string]string // what else certificates are shown by than tunnels, by their names
}

// Certificate is a certificate that is kept beside the plan, or a signing request whose certificate has not come.
type Certificate struct {
	Name    string    `json:"name"`
	Holds   []string  `json:"holds" nullable:"false" doc:"The names that it is good for."`
	Expires time.Time `json:"expires,omitzero"`
	Issuer  string    `json:"issuer,omitempty"`
	Key     string    `json:"key,omitempty" enum:"ecdsa,rsa,ed25519" doc:"Of what kind its key is."`
	Own     bool      `json:"own" doc:"Signed by the service's own authority, and renewed by itself before it expires."`
	Waiting bool      `json:"waiting" doc:"A signing request was made, and its certificate has not come."`
	Revoked bool      `json:"revoked"`
	Used    []string  `json:"used" nullable:"false" doc:"Tunnels of the running plan that show it, and the console."`
}

// Ensure makes the service's own authority at the first start.
func (s *Service) Ensure(ctx context.Context) error {
	ca, err := s.Store.Certificate(ctx, store.AuthorityName)
	if err == nil {
		return s.noteIssued(ctx, ca)
	}
	if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	if ca, err = cert.NewAuthority(rand.Reader, time.Now(), "Yellow Lantern"); err != nil {
		return err
	}
	return s.Store.SaveCertificate(ctx, store.AuthorityName, ca)
}

var errAuthority = refusal.Invalid("that name is the authority's own")

// Make makes a certificate by the own authority, for names that people dial, in place of an older one.
func (s *Service) Make(ctx context.Context, name string, dial ...string) (Certificate, error) {
	return s.MakeWith(ctx, cert.ECDSA, name, false, dial...)
}

// MakeWith is Make with a kind of key, cert.ECDSA or cert.RSA; replace: also in place of one that people need to connect.
func (s *Service) MakeWith(ctx context.Context, kind, name string, replace bool, dial ...string) (Certificate, error) {
	if store.OfAuthority(name) {
		return Certificate{}, errAuthority
	}
	ca, err := s.Store.Certificate(ctx, store.AuthorityName)
	if err != nil {
		return Certificate{}, err
	}
	ca.List = s.listURL(ca)
	pair, err := ca.NewGatewayWith(rand.Reader, time.Now(), kind, dial...)
	if err != nil {
		return Certificate{}, refusal.Mistaken(err)
	}
	if !replace {
		if err := s.mayReplace(ctx, name, pair); err != nil {
			return Certificate{}, err
		}
	}
	if err := s.Store.Issue(ctx, name, pair); err != nil {
		return Certificate{}, err
	}
	s.Running.Reload(ctx, reason.Of(reason.CertificateMade, byHand(ctx, name)))
	return s.one(ctx, name)
}

// Import keeps a certificate of another authority with those above it and its key, which may be among them; both PEM. Of a signing request
// that was made here the key is there already.
//
// replace: also in place of one that people need to connect.
func (s *Service) Import(ctx context.Context, name, chain, key string, replace bool) (Certificate, error) {
	if store.OfAuthority(name) {
		return Certificate{}, errAuthority
	}
	pending, err := s.Store.Pending(ctx, name)
	if err != nil {
		return Certificate{}, err
	}
	pair, err := cert.Import([]byte(chain), []byte(key), pending)
	if err != nil {
		return Certificate{}, refusal.Invalid(err.Error() + "; nothing was kept")
	}
	if !replace {
		if err := s.mayReplace(ctx, name, pair); err != nil {
			return Certificate{}, err
		}
	}
	if err := s.Store.SaveCertificate(ctx, name, pair); err != nil {
		return Certificate{}, err
	}
	s.Running.Reload(ctx, reason.Of(reason.CertificateImported, byHand(ctx, name)))
	return s.one(ctx, name)
}

// Request makes a key and a signing request (PKCS #10) for another authority, PEM.
func (s *Service) Request(ctx context.Context, kind, name string, dial ...string) (string, error) {
	if store.OfAuthority(name) {
		return "", errAuthority
	}
	key, err := cert.NewKeyOf(rand.Reader, kind)
	if err != nil {
		return "", refusal.Mistaken(err)
	}
	text, err := cert.Request(rand.Reader, key, dial...)
	if err != nil {
		return "", refusal.Mistaken(err)
	}
	if err := s.Store.SavePending(ctx, name, key); err != nil {
		return "", err
	}
	return string(text), nil
}

// Revoke puts a certificate of the own authority on the revocation list, and says why for the record.
func (s *Service) Revoke(ctx context.Context, name, why string) error {
	pair, err := s.Store.Certificate(ctx, name)
	if err != nil {
		return refusal.Known(err, "certificate", name)
	}
	c, err := s.change(ctx)
	if err != nil {
		return err
	}
	if store.OfAuthority(name) || c.ours(pair.Leaf) == nil {
		return refusal.Invalid(
			"only certificates of the service's own authority can be revoked here; ask the one that signed it")
	}
	return s.revoke(ctx, name, pair.Leaf.SerialNumber.Text(16), why)
}

// Remove forgets a certificate with its key, or a signing request; evenSo: also where earlier revisions need it.
func (s *Service) Remove(ctx context.Context, name string, evenSo bool) error {
	if store.OfAuthority(name) {
		return errAuthority
	}
	if by := s.shownBy(name); by != "" {
		return refusal.Invalid("certificate " + name + " is shown by the " + by + ": start the service with another one first")
	}
	return s.Running.Release(ctx, plan.KeptCertificate, name, evenSo, func() error { return s.Store.RemoveCertificate(ctx, name) })
}

// Authority is the own authority's certificate, PEM, for people's devices.
func (s *Service) Authority(ctx context.Context) (string, error) {
	ca, err := s.Store.Certificate(ctx, store.AuthorityName)
	if err != nil {
		return "", err
	}
	return string(ca.PEM()), nil
}

// Own is the own authority's certificate.
func (s *Service) Own(ctx context.Context) (*x509.Certificate, error) {
	ca, err := s.Store.Certificate(ctx, store.AuthorityName)
	if err != nil {
		return nil, err
	}
	return ca.Leaf, nil
}

// AuthorityUntil is when the own authority ends.
func (s *Service) AuthorityUntil(ctx context.Context) (time.Time, error) {
	ca, err := s.Store.Certificate(ctx, store.AuthorityName)
	if err != nil {
		return time.Time{}, err
	}
	return ca.Leaf.NotAfter, nil
}

// RevocationList is the authority's revocation list of now, DER.
func (s *Service) RevocationList(ctx context.Context) ([]byte, error) {
	ca, err := s.Store.Certificate(ctx, store.AuthorityName)
	if err != nil {
		return nil, err
	}
	return s.listBy(ctx, ca)
}

// ErrNoList says that no authority here has a list under that name.
var ErrNoList = errors.New("there is no such list")

// RevocationListNamed is that of the authority whose certificates hold such a path: of the one that signs, or of the one before it, which
// counts still. Certificates of versions that knew one path alone are of the older one, where there is one.
func (s *Service) RevocationListNamed(ctx context.Context, id string) ([]byte, error) {
	c, err := s.change(ctx)
	if err != nil {
		return nil, err
	}
	switch {
	case c.before != nil && (id == "" || id == listID(c.before)):
		return s.listBy(ctx, c.before)
	case id == "" || id == listID(c.present):
		return s.listBy(ctx, c.present)
	}
	return nil, ErrNoList
}

// listBy is the list as one authority signs it. Serial numbers are drawn so that no two authorities have given the same: it may hold all.
func (s *Service) listBy(ctx context.Context, ca *cert.Pair) ([]byte, error) {
	records, err := s.Store.Revoked(ctx)
	if err != nil {
		return nil, err
	}
	var list []cert.Revoked
	for _, r := range records {
		if serial, ok := new(big.Int).SetString(r.Serial, 16); ok {
			list = append(list, cert.Revoked{Serial: serial, At: r.At})
		}
	}
	now := time.Now()
	return ca.RevocationList(rand.Reader, now, now.Unix(), list)
}

// Where the revocation lists are fetched by devices, which have no account here: each authority has its own, for a list is believed only of
// who signed the certificate (RFC 5280 §6.3.3).
const (
	ListPath  = "/authority.crl" // in certificates of versions before 0.12
	ListPaths = "/authority-{id:[0-9a-f]{16}}.crl"
)

// listID is by what an authority's list is told from others'.
func listID(ca *cert.Pair) string {
	sum := sha256.Sum256(ca.Leaf.RawSubjectPublicKeyInfo)
	return hex.EncodeToString(sum[:8])
}

// listURL is the list's address in certificates: by the name that a proxy in front has. By loopback no device could fetch it.
func (s *Service) listURL(ca *cert.Pair) string {
	if len(s.Names) == 0 || s.byConsole() { // the list is fetched without TLS, for a client cannot check it before it has it
		return ""
	}
	return "http://" + s.Names[0] + "/authority-" + listID(ca) + ".crl"
}

// noteIssued notes what was signed by versions that kept no list of it.
func (s *Service) noteIssued(ctx context.Context, ca *cert.Pair) error {
	records, err := s.Store.Certificates(ctx)
	if err != nil {
		return err
	}
	for _, r := range records {
		leaf, err := x509.ParseCertificate(r.DER)
		if err == nil && !store.OfAuthority(r.Name) && leaf.CheckSignatureFrom(ca.Leaf) == nil {
			if err := s.Store.NoteIssued(ctx, r.Name, leaf); err != nil {
				return err
			}
		}
	}
	return nil
}

// Issued is a certificate that the own authority signed.
type Issued struct {
	Serial  string    `json:"serial" doc:"Hexadecimal."`
	Name    string    `json:"name" doc:"Under which it was made."`
	Holds   string    `json:"holds"`
	At      time.Time `json:"at"`
	Expires time.Time `json:"expires"`
	Revoked string    `json:"revoked,omitempty" doc:"Why it is revoked."`
	Shown   bool      `json:"shown" doc:"It is the one that is kept under its name."`
}

// Issued lists what the own authority signed, kept still or not, newest first.
func (s *Service) Issued(ctx context.Context) ([]Issued, error) {
	records, err := s.Store.Issued(ctx)
	if err != nil {
		return nil, err
	}
	revoked, err := s.Store.Revoked(ctx)
	if err != nil {
		return nil, err
	}
	certs, _, err := s.Store.Trusted(ctx)
	out := []Issued{}
	for _, r := range records {
		x := Issued{Serial: r.Serial, Name: r.Name, Holds: r.Holds, At: r.At, Expires: r.Expires}
		for _, gone := range revoked {
			if gone.Serial == r.Serial {
				x.Revoked = cmp.Or(gone.Reason, "revoked")
			}
		}
		kept := certs[r.Name]
		x.Shown = kept != nil && kept.SerialNumber.Text(16) == r.Serial
		out = append(out, x)
	}
	return out, err
}

// RevokeSerial revokes by the serial, in hexadecimal: also what was replaced.
func (s *Service) RevokeSerial(ctx context.Context, written, why string) error {
	serial := strings.ToLower(strings.TrimLeft(written, "0"))
	records, err := s.Store.Issued(ctx)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(records, func(r store.IssuedCertificate) bool { return r.Serial == serial })
	if i < 0 {
		return refusal.Missing("the own authority signed no certificate with serial " + written +
			": yl certificate issued lists them")
	}
	return s.revoke(ctx, records[i].Name, serial, why)
}

// revoke puts a certificate on the list, and shows it to nobody from now on.
func (s *Service) revoke(ctx context.Context, name, serial, why string) error {
	err := s.Store.Revoke(ctx, store.RevokedCertificate{Serial: serial, Name: name, Reason: why, At: time.Now().UTC()})
	if errors.Is(err, store.ErrExists) {
		return refusal.Conflict("it is revoked already")
	}
	if err == nil && s.Revoked != nil {
		s.Revoked(ctx, serial)
	}
	if err == nil {
		s.Running.Reload(ctx, reason.Of(reason.CertificateRevoked, byHand(ctx, name)).And(reason.With{reason.What: why}))
	}
	return err
}

// usedBy is, by certificate, the tunnels of the running plan that show it, and the console.
func (s *Service) usedBy(ctx context.Context) map[string][]string {
	out := map[string][]string{}
	s.showing.Lock()
	for name, by := range s.shown {
		out[name] = []string{by}
	}
	s.showing.Unlock()
	newest, err := s.Store.Newest(ctx)
	if err != nil {
		return out
	}
	if doc, err := s.Wholes.Read(newest.Text); err == nil {
		for name, by := range running.Shows(&doc.Plan, "") {
			for _, what := range by {
				out[name] = append(out[name], strings.TrimPrefix(what, "tunnel "))
			}
		}
	}
	return out
}

// Certificates lists all certificates and signing requests.
func (s *Service) Certificates(ctx context.Context) ([]Certificate, error) {
	records, err := s.Store.Certificates(ctx)
	if err != nil {
		return nil, err
	}
	revoked, err := s.Store.Revoked(ctx)
	if err != nil {
		return nil, err
	}
	own, err := s.change(ctx)
	if err != nil {
		return nil, err
	}
	used, out := s.usedBy(ctx), []Certificate{}
	for _, r := range records {
		c := Certificate{Name: r.Name, Holds: []string{}, Waiting: len(r.Pending) > 0, Used: append([]string{}, used[r.Name]...)}
		if leaf, err := x509.ParseCertificate(r.DER); err == nil {
			c.Holds, c.Expires, c.Issuer, c.Key = cert.Names(leaf), leaf.NotAfter, leaf.Issuer.CommonName, cert.KindOf(leaf)
			c.Own = own.ours(leaf) != nil
			c.Revoked = slices.ContainsFunc(revoked,
				func(x store.RevokedCertificate) bool { return x.Serial == leaf.SerialNumber.Text(16) })
		}
		out = append(out, c)
	}
	return out, nil
}

func (s *Service) one(ctx context.Context, name string) (Certificate, error) {
	all, err := s.Certificates(ctx)
	if err != nil {
		return Certificate{}, err
	}
	for _, c := range all {
		if c.Name == name {
			return c, nil
		}
	}
	return Certificate{}, refusal.Known(store.ErrNotFound, "certificate", name)
}

// renewBefore is how long before its end a certificate of the own authority is made anew: before anybody is warned of it.
const renewBefore = 45 * 24 * time.Hour

// Renew makes certificates of the own authority anew that the running plan uses and that end soon, and lets the gateway
// show them. Devices trust the authority: they need nothing new, and sessions go on.
func (s *Service) Renew(ctx context.Context, now time.Time) error {
	c, err := s.change(ctx)
	if err != nil {
		return err
	}
	ca := c.present
	for name := range s.usedBy(ctx) {
		pair, err := s.Store.Certificate(ctx, name)
		if err != nil {
			continue
		}
		by := c.ours(pair.Leaf)
		if by == nil || by == ca && pair.Leaf.NotAfter.Sub(now) > renewBefore {
			continue
		}
		ca.List = s.listURL(ca)
		next, err := ca.NewGatewayWith(rand.Reader, now, cert.KindOf(pair.Leaf), cert.Names(pair.Leaf)...)
		if err != nil {
			return err
		}
		if err := s.Store.Issue(ctx, name, next); err != nil {
			return err
		}
		why := reason.Of(reason.CertificateRenewed, reason.With{
			reason.Certificate: name, reason.Until: pair.Leaf.NotAfter.Format(time.DateOnly),
		})
		if by != ca {
			why = reason.Of(reason.CertificateMade, reason.With{
				reason.Certificate: name, reason.Administrator: "the change of the own authority",
			})
		}
		s.Running.Reload(ctx, why)
	}
	return nil
}

// Of is what devices must trust to accept a tunnel's certificate: the service's own authority, or that of a foreign one. PEM.
func (s *Service) Of(ctx context.Context, m *site.Model, tunnel string) (string, error) {
	c, err := s.change(ctx)
	if err != nil {
		return "", err
	}
	ca := c.present
	t := m.Names.Tunnels[tunnel]
	if t == nil {
		return string(ca.PEM()), nil
	}
	var out []string
	add := func(of string) {
		if !slices.Contains(out, of) {
			out = append(out, of)
		}
	}
	for _, name := range t.Certificates() {
		pair, err := s.Store.Certificate(ctx, name)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return "", err
		}
		by := ca
		if err == nil {
			by = c.ours(pair.Leaf)
		}
		if by == nil {
			add(string(pair.Trust()))
			continue
		}
		add(string(by.PEM()))
		if c.next != nil { // what is handed over now holds, once it signs
			add(string(c.next.PEM()))
		}
	}
	return strings.Join(out, ""), nil
}

// byHand is what a reason says of a certificate that somebody does something with.
func byHand(ctx context.Context, name string) reason.With {
	return reason.With{reason.Certificate: name, reason.Administrator: actor.Name(ctx)}
}
