package foreign

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/pem"
	"math/big"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ocsp"

	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
)

var now = time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)

// issuer is an authority that issues what it is told to.
type issuer struct {
	*x509.Certificate
	key *ecdsa.PrivateKey
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

func newKey() *ecdsa.PrivateKey { return must(ecdsa.GenerateKey(elliptic.P256(), rand.Reader)) }

var serial int64

func (by *issuer) signs(t x509.Certificate, public any) *x509.Certificate {
	serial++
	t.SerialNumber = big.NewInt(serial)
	if t.NotAfter.IsZero() {
		t.NotBefore, t.NotAfter = now.Add(-time.Hour), now.Add(time.Hour)
	}
	parent := &t
	if by.Certificate != nil {
		parent = by.Certificate
	}
	return must(x509.ParseCertificate(must(x509.CreateCertificate(rand.Reader, &t, parent, public, by.key))))
}

func (by *issuer) authority(name string, change func(*x509.Certificate)) *issuer {
	t := x509.Certificate{
		Subject: pkix.Name{CommonName: name}, IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign,
	}
	if change != nil {
		change(&t)
	}
	key := newKey()
	if by == nil {
		by = &issuer{key: key}
	}
	return &issuer{by.signs(t, &key.PublicKey), key}
}

func (by *issuer) person(change func(*x509.Certificate)) *x509.Certificate {
	t := x509.Certificate{
		Subject: pkix.Name{CommonName: "Rory"}, EmailAddresses: []string{"Rory@tern.example"}, KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth},
	}
	if change != nil {
		change(&t)
	}
	return by.signs(t, &newKey().PublicKey)
}

func inPEM(kind string, der []byte) string {
	return string(pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der}))
}

// altNames is an extension with a name of the kind otherName for each.
func altNames(principals ...string) pkix.Extension {
	var names []byte
	for _, p := range principals {
		text := must(asn1.MarshalWithParams(p, "utf8"))
		inner := must(asn1.Marshal(asn1.RawValue{Class: 2, Tag: 0, IsCompound: true, Bytes: text}))
		body := append(must(asn1.Marshal(principalName)), inner...)
		names = append(names, must(asn1.Marshal(asn1.RawValue{Class: 2, Tag: 0, IsCompound: true, Bytes: body}))...)
	}
	return pkix.Extension{Id: subjectAltName, Value: must(asn1.Marshal(asn1.RawValue{Tag: 16, IsCompound: true, Bytes: names}))}
}

// Whoever has a certificate of the authority that may be used to log in by is who it names; nobody else is anybody.
func TestWhomACertificateNames(t *testing.T) {
	root := (*issuer)(nil).authority("people", nil)
	between := root.authority("people of 2026", nil)
	narrow := root.authority("servers", func(c *x509.Certificate) { c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth} })
	namesake := (*issuer)(nil).authority("people", nil)
	over := root.authority("people of 2020", func(c *x509.Certificate) {
		c.NotBefore, c.NotAfter = now.AddDate(-6, 0, 0), now.AddDate(-5, 0, 0)
	})
	weak := must(rsa.GenerateKey(rand.Reader, 1024))
	usual := plan.Authority{Name: "institute", Certificate: inPEM("CERTIFICATE", root.Raw), Domain: "tern.example"}
	from := func(where, domain string) plan.Authority {
		a := usual
		a.PersonFrom, a.Domain = where, domain
		return a
	}
	named := func(cn string) func(*x509.Certificate) {
		return func(c *x509.Certificate) { c.Subject = pkix.Name{CommonName: cn} }
	}
	for _, c := range []struct {
		name   string
		of     plan.Authority
		shown  []*x509.Certificate
		person string
		why    reason.Code
	}{
		{"by an address", usual, []*x509.Certificate{root.person(nil)}, "Rory", ""},
		{"by one in between", usual, []*x509.Certificate{between.person(nil), between.Certificate}, "Rory", ""},
		{"which is not shown", usual, []*x509.Certificate{between.person(nil)}, "", reason.KeyStranger},
		{"the whole address", from("", ""), []*x509.Certificate{root.person(nil)}, "Rory@tern.example", ""},
		{"of another domain", from("", "skua.example"), []*x509.Certificate{root.person(nil)}, "", reason.KeyNameless},
		{"of a domain that ends alike", usual, []*x509.Certificate{root.person(func(c *x509.Certificate) { c.EmailAddresses = []string{"rory@nottern.example"} })}, "", reason.KeyNameless},
		{"of no name before the domain", usual, []*x509.Certificate{root.person(func(c *x509.Certificate) { c.EmailAddresses = []string{"@tern.example"} })}, "", reason.KeyNameless},
		{"two addresses", usual, []*x509.Certificate{root.person(func(c *x509.Certificate) { c.EmailAddresses = []string{"a@tern.example", "b@tern.example"} })}, "", reason.KeyNameless},
		{"no address", usual, []*x509.Certificate{root.person(func(c *x509.Certificate) { c.EmailAddresses = nil })}, "", reason.KeyNameless},
		{"by the common name", from(plan.NameFromCommon, ""), []*x509.Certificate{root.person(named("rory.researcher"))}, "rory.researcher", ""},
		{"by the user id", from(plan.NameFromUserID, ""), []*x509.Certificate{root.person(func(c *x509.Certificate) {
			c.Subject.ExtraNames = []pkix.AttributeTypeAndValue{{Type: userID, Value: "rory.researcher"}}
		})}, "rory.researcher", ""},
		{"by the principal name", from(plan.NameFromPrincipal, "tern.example"), []*x509.Certificate{root.person(func(c *x509.Certificate) {
			c.EmailAddresses, c.ExtraExtensions = nil, []pkix.Extension{altNames("rory.researcher@TERN.EXAMPLE")}
		})}, "rory.researcher", ""},
		{"two principal names", from(plan.NameFromPrincipal, "tern.example"), []*x509.Certificate{root.person(func(c *x509.Certificate) {
			c.EmailAddresses, c.ExtraExtensions = nil, []pkix.Extension{altNames("rory@tern.example", "wanda@tern.example")}
		})}, "", reason.KeyNameless},
		{"a stranger's of the same name", usual, []*x509.Certificate{namesake.person(nil)}, "", reason.KeyStranger},
		{"with that stranger shown", usual, []*x509.Certificate{namesake.person(nil), namesake.Certificate}, "", reason.KeyStranger},
		{"its own", usual, []*x509.Certificate{(&issuer{key: newKey()}).person(nil)}, "", reason.KeyStranger},
		{"over", usual, []*x509.Certificate{root.person(func(c *x509.Certificate) { c.NotBefore, c.NotAfter = now.Add(-time.Hour), now.Add(-time.Minute) })}, "", reason.KeyExpired},
		{"to come", usual, []*x509.Certificate{root.person(func(c *x509.Certificate) { c.NotBefore, c.NotAfter = now.Add(time.Minute), now.Add(time.Hour) })}, "", reason.KeyExpired},
		{"below one that is over", usual, []*x509.Certificate{over.person(nil), over.Certificate}, "", reason.KeyExpired},
		{"of a server", usual, []*x509.Certificate{root.person(func(c *x509.Certificate) { c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth} })}, "", reason.KeyMisused},
		{"of an authority for servers", usual, []*x509.Certificate{narrow.person(nil), narrow.Certificate}, "", reason.KeyMisused},
		{"for IPsec", usual, []*x509.Certificate{root.person(func(c *x509.Certificate) {
			c.ExtKeyUsage, c.UnknownExtKeyUsage = nil, []asn1.ObjectIdentifier{forIPsec}
		})}, "Rory", ""},
		{"for whatever", usual, []*x509.Certificate{root.person(func(c *x509.Certificate) { c.ExtKeyUsage, c.KeyUsage = nil, 0 })}, "Rory", ""},
		{"to encrypt with", usual, []*x509.Certificate{root.person(func(c *x509.Certificate) { c.KeyUsage = x509.KeyUsageKeyEncipherment })}, "", reason.KeyMisused},
		{"the authority's own", usual, []*x509.Certificate{between.Certificate}, "", reason.KeyMisused},
		{"of a weak key", usual, []*x509.Certificate{root.signs(x509.Certificate{EmailAddresses: []string{"rory@tern.example"}}, &weak.PublicKey)}, "", reason.KeyMisused},
	} {
		t.Run(c.name, func(t *testing.T) {
			a, err := Read(c.of)
			require.NoError(t, err)
			_, why := a.Chain(c.shown, now)
			person := ""
			if why.None() {
				person, why = a.Person(c.shown[0])
			}
			require.Equal(t, []any{c.person, c.why}, []any{person, why.Code}, "%s", why.Words())
		})
	}
	for says, text := range map[string]string{
		"no certificate in it":  "",
		"no PEM":                inPEM("CERTIFICATE", root.Raw) + "and so on",
		"private key":           inPEM("CERTIFICATE", root.Raw) + inPEM("EC PRIVATE KEY", must(x509.MarshalECPrivateKey(root.key))),
		"public key in it":      inPEM("PUBLIC KEY", root.RawSubjectPublicKeyInfo),
		"cannot be read":        inPEM("CERTIFICATE", []byte("x")),
		"is not an authority's": inPEM("CERTIFICATE", root.person(nil).Raw),
		"may not sign":          inPEM("CERTIFICATE", root.authority("x", func(c *x509.Certificate) { c.KeyUsage = x509.KeyUsageCRLSign }).Raw),
		"more than 16 certificat": string(func() (all []byte) { // each of them is read at every login
			for range 17 {
				all = append(all, inPEM("CERTIFICATE", root.Raw)...)
			}
			return all
		}()),
	} {
		_, err := Read(plan.Authority{Certificate: text})
		require.ErrorContains(t, err, says)
	}
}

func (by *issuer) list(change func(*x509.RevocationList), revoked ...*x509.Certificate) []byte {
	l := &x509.RevocationList{Number: big.NewInt(7), ThisUpdate: now.Add(-time.Hour), NextUpdate: now.Add(time.Hour)}
	for _, c := range revoked {
		l.RevokedCertificateEntries = append(l.RevokedCertificateEntries,
			x509.RevocationListEntry{SerialNumber: c.SerialNumber, RevocationTime: now.Add(-time.Minute)})
	}
	if change != nil {
		change(l)
	}
	return must(x509.CreateRevocationList(rand.Reader, l, by.Certificate, by.key))
}

// A list is gone by where its issuer signed it whole, and within its time.
func TestLists(t *testing.T) {
	root := (*issuer)(nil).authority("people", nil)
	namesake := (*issuer)(nil).authority("people", nil)
	lost := root.person(func(c *x509.Certificate) { c.CRLDistributionPoints = []string{"http://pki.tern.example/1.crl"} })
	good := root.person(nil)
	read := must(ReadList(root.list(nil, lost), root.Certificate))
	at, gone := read.Revoked(lost)
	require.True(t, gone)
	require.Equal(t, now.Add(-time.Minute), at)
	_, gone = read.Revoked(good)
	require.False(t, gone)
	require.Equal(t, []any{1, "7"}, []any{read.Entries, read.Number.String()})
	for after, fresh := range map[time.Duration]bool{
		0: true, -2 * time.Hour: false, time.Hour: false, time.Hour - 1: true, -time.Hour - Skew: true,
	} {
		require.Equal(t, fresh, read.Fresh(now.Add(after)), after)
	}
	fromPEM, err := ReadList([]byte(inPEM("X509 CRL", root.list(nil, lost))), root.Certificate)
	require.NoError(t, err)
	require.Equal(t, 1, fromPEM.Entries)

	extension := func(id asn1.ObjectIdentifier, critical bool, value string) func(*x509.RevocationList) {
		return func(l *x509.RevocationList) {
			l.ExtraExtensions = []pkix.Extension{{Id: id, Critical: critical, Value: []byte(value)}}
		}
	}
	const uri = "http://pki.tern.example/1.crl"
	place := func(address string) string { // [0] { [0] { [6] address } }, by hand: RFC 5280 §5.2.5
		n := byte(len(address))
		return string([]byte{0x30, n + 6, 0xa0, n + 4, 0xa0, n + 2, 0x86, n}) + address
	}
	for name, c := range map[string]struct {
		change func(*x509.RevocationList)
		covers bool // the one that is lost
	}{
		"users":                {extension(issuingPoint, true, "\x30\x03\x81\x01\xff"), true},
		"authorities":          {extension(issuingPoint, true, "\x30\x03\x82\x01\xff"), false},
		"those of the place":   {extension(issuingPoint, true, place(uri)), true},
		"those of another one": {extension(issuingPoint, true, place("http://pki.tern.example/2.crl")), false},
	} {
		l, err := ReadList(root.list(c.change, lost), root.Certificate)
		require.NoError(t, err, name)
		require.Equal(t, c.covers, l.Covers(lost), name)
	}
	signer := root.authority("signer", nil)
	notSigner := &issuer{must(x509.ParseCertificate(signer.Raw)), signer.key}
	notSigner.KeyUsage = x509.KeyUsageCertSign
	for says, c := range map[string]struct {
		list []byte
		by   *issuer
	}{
		"it is no revocation list": {[]byte("list"), root},
		"it is a certificate":      {[]byte(inPEM("CERTIFICATE", root.Raw)), root},
		"not that of":              {namesake.list(nil), root},
		"it is the list of":        {signer.list(nil), root},
		"may not sign lists":       {signer.list(nil), notSigner},
		"only what changed":        {root.list(extension(deltaBase, true, "\x02\x01\x05")), root},
		"about some reasons":       {root.list(extension(issuingPoint, true, "\x30\x03\x84\x01\xff")), root},
		"cannot be read":           {root.list(extension(issuingPoint, true, "\x30\x05")), root},
		"not known here":           {root.list(extension(asn1.ObjectIdentifier{1, 2, 3}, true, "x")), root},
		"other issuers": {root.list(func(l *x509.RevocationList) {
			l.RevokedCertificateEntries = []x509.RevocationListEntry{{
				SerialNumber: big.NewInt(1), RevocationTime: now,
				ExtraExtensions: []pkix.Extension{{Id: asn1.ObjectIdentifier{2, 5, 29, 29}, Critical: true, Value: []byte("x")}},
			}}
		}), root},
	} {
		_, err := ReadList(c.list, c.by.Certificate)
		require.ErrorContains(t, err, says)
	}
}

// An answer is gone by where the issuer gave it, or whom it appointed, about just that certificate, within its time.
func TestAnswers(t *testing.T) {
	root, other := (*issuer)(nil).authority("people", nil), (*issuer)(nil).authority("people", nil)
	person := root.person(nil)
	helper := newKey()
	appointed := root.signs(x509.Certificate{ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageOCSPSigning}}, &helper.PublicKey)
	usurper := root.signs(x509.Certificate{ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}}, &helper.PublicKey)
	retired := root.signs(x509.Certificate{
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageOCSPSigning}, NotBefore: now.AddDate(-2, 0, 0), NotAfter: now.AddDate(-1, 0, 0),
	}, &helper.PublicKey)
	answer := func(by *issuer, change func(*ocsp.Response)) []byte {
		r := ocsp.Response{
			Status: ocsp.Good, SerialNumber: person.SerialNumber, ThisUpdate: now.Add(-time.Minute), NextUpdate: now.Add(20 * time.Minute),
		}
		if change != nil {
			change(&r)
		}
		responder, key := by.Certificate, by.key
		if r.Certificate != nil {
			responder, key = r.Certificate, helper
		}
		return must(ocsp.CreateResponse(by.Certificate, responder, r, key))
	}
	a, err := ReadAnswer(answer(root, nil), person, root.Certificate, now)
	require.NoError(t, err)
	require.Equal(t, Answer{Until: now.Add(20 * time.Minute)}, a)
	byHelper := answer(root, func(r *ocsp.Response) { r.Certificate, r.NextUpdate = appointed, now.AddDate(0, 0, 7) })
	a, err = ReadAnswer(byHelper, person, root.Certificate, now)
	require.NoError(t, err)
	require.Equal(t, now.Add(longestAnswer), a.Until, "who is revoked meanwhile is not let in for a week")
	revoked := answer(root, func(r *ocsp.Response) { r.Status, r.RevokedAt = ocsp.Revoked, now.Add(-time.Hour) })
	a, err = ReadAnswer(revoked, person, root.Certificate, now)
	require.NoError(t, err)
	require.True(t, a.Revoked)
	for says, b := range map[string][]byte{
		"cannot be gone by":    answer(other, nil),
		"not appointed":        answer(root, func(r *ocsp.Response) { r.Certificate = usurper }),
		"not valid now":        answer(root, func(r *ocsp.Response) { r.Certificate = retired }),
		"does not know":        answer(root, func(r *ocsp.Response) { r.Status = ocsp.Unknown }),
		"no response matching": answer(root, func(r *ocsp.Response) { r.SerialNumber = big.NewInt(1 << 40) }),
		"time to come":         answer(root, func(r *ocsp.Response) { r.ThisUpdate = now.Add(time.Hour) }),
		"until 2026-06-01 11":  answer(root, func(r *ocsp.Response) { r.NextUpdate = now.Add(-time.Second) }),
		"does not say until":   answer(root, func(r *ocsp.Response) { r.ThisUpdate, r.NextUpdate = now.Add(-2*time.Hour), time.Time{} }),
		"unauthorized":         ocsp.UnauthorizedErrorResponse,
	} {
		_, err := ReadAnswer(b, person, root.Certificate, now)
		require.ErrorContains(t, err, says)
	}
	asked := must(ocsp.ParseRequest(must(Ask(person, root.Certificate))))
	require.Equal(t, person.SerialNumber, asked.SerialNumber)
}

// What strangers serve in place of lists and answers makes nothing but an error.
func FuzzServed(f *testing.F) {
	root := (*issuer)(nil).authority("people", nil)
	person := root.person(nil)
	f.Add(root.list(nil, person))
	answer := ocsp.Response{SerialNumber: person.SerialNumber, ThisUpdate: now}
	f.Add(must(ocsp.CreateResponse(root.Certificate, root.Certificate, answer, root.key)))
	f.Add(person.Raw)
	f.Fuzz(func(t *testing.T, b []byte) {
		if l, err := ReadList(b, root.Certificate); err == nil {
			l.Covers(person)
		}
		_, _ = ReadAnswer(b, person, root.Certificate, now)
		_, _ = readScope(b)
		_, _ = Read(plan.Authority{Certificate: string(b)})
		if c, err := x509.ParseCertificate(b); err == nil {
			principals(c)
		}
	})
}
