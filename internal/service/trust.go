package service

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/site"
	"yellowlantern/internal/store"
)

// Certificate is a certificate that is kept beside the plan, or a signing request whose certificate has not come.
type Certificate struct {
	Name    string    `json:"name"`
	Holds   []string  `json:"holds" nullable:"false" doc:"The names that it is good for."`
	Expires time.Time `json:"expires,omitzero"`
	Issuer  string    `json:"issuer,omitempty"`
	Own     bool      `json:"own" doc:"Signed by the service's own authority, and renewed by itself before it expires."`
	Waiting bool      `json:"waiting" doc:"A signing request was made, and its certificate has not come."`
	Revoked bool      `json:"revoked"`
	Used    []string  `json:"used" nullable:"false" doc:"Tunnels of the running plan that show it."`
}

type pemText struct {
	PEM string `json:"pem"`
}

type forNames struct {
	For []string `json:"for" minItems:"1" nullable:"false" doc:"Names and addresses that people dial."`
}

func (s *Service) trustRoutes() {
	register(s, "GET", "/certificates", "list-certificates", "All certificates and signing requests", s.certificates)
	register(s, "POST", "/certificates/{name}", "make-certificate", "Make a certificate by the service's own authority, in place of an older one", func(ctx context.Context, in *struct {
		Named
		Body forNames
	},
	) (*body[Certificate], error) {
		c, err := s.MakeCertificate(ctx, in.Name, in.Body.For...)
		if err == nil {
			s.reload(ctx, reason.Of(reason.CertificateMade, byHand(ctx, in.Name)))
		}
		return answer(c), err
	})
	register(s, "PUT", "/certificates/{name}", "import-certificate", "Keep a certificate of another authority with those above it and its key", s.importCertificate)
	register(s, "POST", "/certificates/{name}/request", "request-certificate", "Make a key and a signing request (PKCS #10) for another authority", s.requestCertificate)
	register(s, "POST", "/certificates/{name}/revoke", "revoke-certificate", "Put a certificate of the own authority on the revocation list", s.revokeCertificate)
	register(s, "DELETE", "/certificates/{name}", "remove-certificate", "Forget a certificate with its key, or a signing request", s.removeCertificate)
	register(s, "GET", "/authority", "authority", "The authority's certificate, PEM, for people's devices", func(ctx context.Context, _ *struct{}) (*body[pemText], error) {
		ca, err := s.Store.Certificate(ctx, store.AuthorityName)
		if err != nil {
			return nil, err
		}
		return answer(pemText{string(ca.PEM())}), nil
	})
	register(s, "GET", "/authority/issued", "issued", "Every certificate that the own authority signed, kept still or not, newest first", s.issued)
	register(s, "POST", "/authority/issued/{serial}/revoke", "revoke-serial", "Put a certificate on the revocation list by its serial, also one that was replaced", s.revokeSerial)
	register(s, "GET", "/authority/revoked", "revocation-list", "The authority's revocation list (RFC 5280), PEM", s.revocationList)
}

// EnsureAuthority makes the service's own authority at the first start.
func (s *Service) EnsureAuthority(ctx context.Context) error {
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

var errAuthority = huma.Error422UnprocessableEntity("that name is the authority's own")

// MakeCertificate makes and keeps a gateway's certificate.
func (s *Service) MakeCertificate(ctx context.Context, name string, dial ...string) (Certificate, error) {
	if name == store.AuthorityName {
		return Certificate{}, errAuthority
	}
	ca, err := s.Store.Certificate(ctx, store.AuthorityName)
	if err != nil {
		return Certificate{}, err
	}
	ca.List = s.listURL()
	pair, err := ca.NewGateway(rand.Reader, time.Now(), dial...)
	if err != nil {
		return Certificate{}, mistaken(err)
	}
	if err := s.Store.Issue(ctx, name, pair); err != nil {
		return Certificate{}, err
	}
	return s.oneCertificate(ctx, name)
}

func (s *Service) importCertificate(ctx context.Context, in *struct {
	Named
	Body struct {
		Chain string `json:"chain" lines:"many" maxLength:"100000" doc:"The certificate and those above it, PEM, in any order; the key may be among them."`
		Key   string `json:"key,omitempty" lines:"many" maxLength:"20000" doc:"Its private key, PEM; not needed where a signing request was made here."`
	}
},
) (*body[Certificate], error) {
	if in.Name == store.AuthorityName {
		return nil, errAuthority
	}
	pending, err := s.Store.Pending(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	pair, err := cert.Import([]byte(in.Body.Chain), []byte(in.Body.Key), pending)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error() + "; nothing was kept")
	}
	if err := s.fitsRunning(ctx, in.Name, pair); err != nil {
		return nil, err
	}
	if err := s.Store.SaveCertificate(ctx, in.Name, pair); err != nil {
		return nil, err
	}
	s.reload(ctx, reason.Of(reason.CertificateImported, byHand(ctx, in.Name)))
	c, err := s.oneCertificate(ctx, in.Name)
	return answer(c), err
}

func (s *Service) requestCertificate(ctx context.Context, in *struct {
	Named
	Body forNames
},
) (*body[pemText], error) {
	if in.Name == store.AuthorityName {
		return nil, errAuthority
	}
	key, err := cert.NewKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	text, err := cert.Request(rand.Reader, key, in.Body.For...)
	if err != nil {
		return nil, mistaken(err)
	}
	if err := s.Store.SavePending(ctx, in.Name, key); err != nil {
		return nil, err
	}
	return answer(pemText{string(text)}), nil
}

func (s *Service) revokeCertificate(ctx context.Context, in *struct {
	Named
	Body struct {
		Reason string `json:"reason" maxLength:"200" doc:"Why, for the record."`
	}
},
) (*struct{}, error) {
	pair, err := s.Store.Certificate(ctx, in.Name)
	if err != nil {
		return nil, known(err, "certificate", in.Name)
	}
	ca, err := s.Store.Certificate(ctx, store.AuthorityName)
	if err != nil {
		return nil, err
	}
	if in.Name == store.AuthorityName || pair.Leaf.CheckSignatureFrom(ca.Leaf) != nil {
		return nil, huma.Error422UnprocessableEntity(
			"only certificates of the service's own authority can be revoked here; ask the one that signed it")
	}
	return nil, s.revoke(ctx, in.Name, pair.Leaf.SerialNumber.Text(16), in.Body.Reason)
}

func (s *Service) removeCertificate(ctx context.Context, in *removal) (*struct{}, error) {
	if in.Name == store.AuthorityName {
		return nil, errAuthority
	}
	s.commits.Lock() // what a commit is about to need stays
	defer s.commits.Unlock()
	if err := s.needed(ctx, in, "certificate", tunnelsOf(in.Name)); err != nil {
		return nil, err
	}
	return nil, known(s.Store.RemoveCertificate(ctx, in.Name), "certificate", in.Name)
}

func (s *Service) revocationList(ctx context.Context, _ *struct{}) (*body[pemText], error) {
	der, err := s.revokedList(ctx)
	if err != nil {
		return nil, err
	}
	return answer(pemText{string(pem.EncodeToMemory(&pem.Block{Type: "X509 CRL", Bytes: der}))}), nil
}

// revokedList is the authority's revocation list of now, DER.
func (s *Service) revokedList(ctx context.Context) ([]byte, error) {
	ca, err := s.Store.Certificate(ctx, store.AuthorityName)
	if err != nil {
		return nil, err
	}
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

// listPath is where the revocation list is fetched by devices, which have no account here.
const listPath = "/authority.crl"

// openList gives the revocation list to whoever asks (RFC 5280 §4.2.1.13, RFC 2585 §4.2): it says nothing that is not in certificates which
// were shown to everybody.
func (s *Service) openList(w http.ResponseWriter, r *http.Request) {
	der, err := s.revokedList(r.Context())
	if err != nil {
		http.Error(w, "the list cannot be made just now", http.StatusServiceUnavailable)
		return
	}
	w.Header().Set("Content-Type", "application/pkix-crl")
	w.Header().Set("Cache-Control", "max-age=600")
	_, _ = w.Write(der)
}

// listURL is the list's address in certificates: by the name that a proxy in front has. By loopback no device could fetch it.
func (s *Service) listURL() string {
	if len(s.Names) == 0 {
		return ""
	}
	return "http://" + s.Names[0] + listPath
}

// noteIssued notes what was signed by versions that kept no list of it.
func (s *Service) noteIssued(ctx context.Context, ca *cert.Pair) error {
	records, err := s.Store.Certificates(ctx)
	if err != nil {
		return err
	}
	for _, r := range records {
		leaf, err := x509.ParseCertificate(r.DER)
		if err == nil && r.Name != store.AuthorityName && leaf.CheckSignatureFrom(ca.Leaf) == nil {
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

func (s *Service) issued(ctx context.Context, _ *struct{}) (*body[[]Issued], error) {
	records, err := s.Store.Issued(ctx)
	if err != nil {
		return nil, err
	}
	revoked, err := s.Store.Revoked(ctx)
	if err != nil {
		return nil, err
	}
	certs, _, err := s.trusted(ctx)
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
	return answer(out), err
}

func (s *Service) revokeSerial(ctx context.Context, in *struct {
	Serial string `path:"serial" maxLength:"40" pattern:"^[0-9a-fA-F]+$"`
	Body   struct {
		Reason string `json:"reason" maxLength:"200" doc:"Why, for the record."`
	}
},
) (*struct{}, error) {
	serial := strings.ToLower(strings.TrimLeft(in.Serial, "0"))
	records, err := s.Store.Issued(ctx)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(records, func(r store.IssuedCertificate) bool { return r.Serial == serial })
	if i < 0 {
		return nil, huma.Error404NotFound("the own authority signed no certificate with serial " + in.Serial +
			": yl certificate issued lists them")
	}
	return nil, s.revoke(ctx, records[i].Name, serial, in.Body.Reason)
}

// revoke puts a certificate on the list, and shows it to nobody from now on.
func (s *Service) revoke(ctx context.Context, name, serial, why string) error {
	err := s.Store.Revoke(ctx, store.RevokedCertificate{Serial: serial, Name: name, Reason: why, At: time.Now().UTC()})
	if errors.Is(err, store.ErrExists) {
		return huma.Error409Conflict("it is revoked already")
	}
	if err == nil {
		s.reload(ctx, reason.Of(reason.CertificateRevoked, byHand(ctx, name)).And(reason.With{reason.What: why}))
	}
	return err
}

// usedBy is, by certificate, the tunnels of the running plan that show it.
func (s *Service) usedBy(ctx context.Context) map[string][]string {
	out := map[string][]string{}
	newest, err := s.Store.Newest(ctx)
	if err != nil {
		return out
	}
	if doc, err := s.docs.read(newest.Text); err == nil {
		for _, t := range doc.Plan.Tunnels {
			if !t.Off {
				out[t.Certificate] = append(out[t.Certificate], t.Name)
			}
		}
	}
	return out
}

func (s *Service) certificates(ctx context.Context, _ *struct{}) (*body[[]Certificate], error) {
	records, err := s.Store.Certificates(ctx)
	if err != nil {
		return nil, err
	}
	revoked, err := s.Store.Revoked(ctx)
	if err != nil {
		return nil, err
	}
	var ca *x509.Certificate
	for _, r := range records {
		if r.Name == store.AuthorityName {
			ca, _ = x509.ParseCertificate(r.DER)
		}
	}
	used, out := s.usedBy(ctx), []Certificate{}
	for _, r := range records {
		c := Certificate{Name: r.Name, Holds: []string{}, Waiting: len(r.Pending) > 0, Used: append([]string{}, used[r.Name]...)}
		if leaf, err := x509.ParseCertificate(r.DER); err == nil {
			c.Holds, c.Expires, c.Issuer = cert.Names(leaf), leaf.NotAfter, leaf.Issuer.CommonName
			c.Own = ca != nil && leaf.CheckSignatureFrom(ca) == nil
			c.Revoked = slices.ContainsFunc(revoked,
				func(x store.RevokedCertificate) bool { return x.Serial == leaf.SerialNumber.Text(16) })
		}
		out = append(out, c)
	}
	return answer(out), nil
}

func (s *Service) oneCertificate(ctx context.Context, name string) (Certificate, error) {
	all, err := s.certificates(ctx, nil)
	if err != nil {
		return Certificate{}, err
	}
	for _, c := range all.Body {
		if c.Name == name {
			return c, nil
		}
	}
	return Certificate{}, known(store.ErrNotFound, "certificate", name)
}

// renewBefore is how long before its end a certificate of the own authority is made anew: before anybody is warned of it.
const renewBefore = 45 * 24 * time.Hour

// RenewCertificates makes certificates of the own authority anew that the running plan uses and that end soon, and lets the gateway
// show them. Devices trust the authority: they need nothing new, and sessions go on.
func (s *Service) RenewCertificates(ctx context.Context, now time.Time) error {
	ca, err := s.Store.Certificate(ctx, store.AuthorityName)
	if err != nil {
		return err
	}
	for name := range s.usedBy(ctx) {
		pair, err := s.Store.Certificate(ctx, name)
		if err != nil || pair.Leaf.CheckSignatureFrom(ca.Leaf) != nil || pair.Leaf.NotAfter.Sub(now) > renewBefore {
			continue
		}
		ca.List = s.listURL()
		next, err := ca.NewGateway(rand.Reader, now, cert.Names(pair.Leaf)...)
		if err != nil {
			return err
		}
		if err := s.Store.Issue(ctx, name, next); err != nil {
			return err
		}
		s.reload(ctx, reason.Of(reason.CertificateRenewed, reason.With{
			reason.Certificate: name, reason.Until: pair.Leaf.NotAfter.Format(time.DateOnly),
		}))
	}
	return nil
}

// fitsRunning holds a certificate that takes the place of one which is shown against the tunnels that show it, as a commit would: what
// people's
// devices would refuse is not kept.
func (s *Service) fitsRunning(ctx context.Context, name string, pair *cert.Pair) error {
	newest, err := s.Store.Newest(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	doc, err := s.docs.read(newest.Text)
	if err != nil {
		return nil // it does not run: nobody is shown anything
	}
	for _, t := range doc.Plan.Tunnels {
		if t.Off || t.Certificate != name {
			continue
		}
		dial := ""
		for _, g := range doc.Plan.Gateways {
			if g.Name == t.Gateway {
				dial = g.Dial
			}
		}
		if why := cert.Problem(pair.Leaf, t.IdentityOr(dial), time.Now()); why != "" {
			return huma.Error422UnprocessableEntity(fmt.Sprintf(
				"tunnel %s, which runs, shows certificate %s, and people's devices would refuse this one: %s; nothing was kept", t.Name, name, why))
		}
	}
	return nil
}

// trustOf is what devices must trust to accept a tunnel's certificate: the service's own authority, or that of a foreign one. PEM.
func (s *Service) trustOf(ctx context.Context, m *site.Model, tunnel string) (string, error) {
	ca, err := s.Store.Certificate(ctx, store.AuthorityName)
	if err != nil {
		return "", err
	}
	if t := m.Names.Tunnels[tunnel]; t != nil {
		pair, err := s.Store.Certificate(ctx, t.Certificate)
		if err == nil && pair.Leaf.CheckSignatureFrom(ca.Leaf) != nil {
			return string(pair.Trust()), nil
		}
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return "", err
		}
	}
	return string(ca.PEM()), nil
}

// byHand is what a reason says of a certificate that somebody does something with.
func byHand(ctx context.Context, name string) reason.With {
	return reason.With{reason.Certificate: name, reason.Administrator: administrator(ctx)}
}

// reload lets the gateway show certificates that are kept now, if the running plan names them, and writes down why.
func (s *Service) reload(ctx context.Context, why reason.Reason) {
	s.commits.Lock()
	defer s.commits.Unlock()
	s.tell(why, "")
	newest, err := s.Store.Newest(ctx)
	if err != nil {
		return
	}
	set, err := s.settings(ctx, newest.Text)
	if err == nil {
		_, err = s.apply(newest.Number, set)
	}
	if err != nil { // such as a certificate that is shown and was revoked: from now on nobody is shown it
		s.instead(ctx, newest, err)
	}
}

// trusted is what checks know of certificates: each by its name, those that were revoked as not there, and the authority.
func (s *Service) trusted(ctx context.Context) (map[string]*x509.Certificate, *x509.Certificate, error) {
	records, err := s.Store.Certificates(ctx)
	if err != nil {
		return nil, nil, err
	}
	revoked, err := s.Store.Revoked(ctx)
	if err != nil {
		return nil, nil, err
	}
	certs := map[string]*x509.Certificate{}
	var ca *x509.Certificate
	for _, r := range records {
		leaf, err := x509.ParseCertificate(r.DER)
		switch {
		case err != nil || slices.ContainsFunc(revoked,
			func(x store.RevokedCertificate) bool { return x.Serial == leaf.SerialNumber.Text(16) }):
		case r.Name == store.AuthorityName:
			ca = leaf
		default:
			certs[r.Name] = leaf
		}
	}
	return certs, ca, nil
}
