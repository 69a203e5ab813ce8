// Package directory asks a directory (LDAP, RFC 4511) who somebody is, whether their password is right, and which groups they are in. What
// follows from that is left to package people.
package directory

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"sync"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"

	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/people/source"
)

// Bounds of what is asked and answered.
const (
	mostGroups = 2000
	mostAnswer = 4 << 20 // octets of one message
	mostIdle   = 4       // connections that are kept bound as the account
	deepest    = 32      // levels of groups of groups
)

// A message that claims to be longer is not read: the package's own bound is two gigaoctets.
func init() { ber.MaxPacketLengthBytes = mostAnswer }

// Directory asks one. It is safe for concurrent use.
type Directory struct {
	s      plan.Source
	own    *plan.LDAP
	secret func(ctx context.Context) (string, error)
	// Dial opens connections; nil: as the system does.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)

	source.Standing
	roots *x509.CertPool
	dead  source.Dead
	mu    sync.Mutex
	idle  []*ldap.Conn
}

// Probe asks whether it can be asked: as the account, or where there is none whether a server is there.
func (d *Directory) Probe(ctx context.Context) {
	ctx, stop := context.WithTimeout(ctx, d.s.Patience())
	defer stop()
	a := &asking{d: d, ctx: ctx}
	defer a.close()
	if !d.Looks() {
		c, _, err := a.connect()
		if err == nil {
			_ = c.Close()
		}
		d.Settled(err)
		return
	}
	_, err := a.find("no-such-person")
	d.Settled(err)
}

// New is a directory as a plan describes it; secret gives the account's password.
func New(s plan.Source, secret func(ctx context.Context) (string, error)) (*Directory, error) {
	d := &Directory{s: s, own: s.LDAP(), secret: secret}
	if s.Authority != "" {
		d.roots = x509.NewCertPool()
		if !d.roots.AppendCertsFromPEM([]byte(s.Authority)) {
			return nil, errors.New("its authority holds no certificate, PEM")
		}
	}
	if filter := d.own.Filter; filter != "" {
		if _, err := ldap.CompileFilter(filter); err != nil {
			return nil, fmt.Errorf("its filter %s cannot be read", filter)
		}
	}
	for _, server := range s.Servers {
		if _, err := plan.ReadServer(plan.KindLDAP, server); err != nil {
			return nil, err
		}
	}
	return d, nil
}

// Settings implements source.Source.
func (d *Directory) Settings() plan.Source { return d.s }

// Looks tells whether people can be looked up without their password.
func (d *Directory) Looks() bool { return d.own.Account != "" }

// Close ends the connections that are kept.
func (d *Directory) Close() {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, c := range d.idle {
		_ = c.Close()
	}
	d.idle = nil
}

// Login tells who somebody is whose password is right. step is told what is done; nil: nobody is.
func (d *Directory) Login(ctx context.Context, c source.Call, step func(source.Asked)) (p source.Person, err error) {
	defer func() { d.Settled(err) }()
	ctx, stop := context.WithTimeout(ctx, d.s.Patience())
	defer stop()
	a := &asking{d: d, ctx: ctx, told: step}
	defer a.close()
	if err := source.CheckUser(c.User); err != nil {
		return source.Person{}, err
	}
	if c.Password == "" { // a bind without a password is one as nobody, and succeeds (RFC 4513 §5.1.2)
		return source.Person{}, source.Fail(source.Wrong, "an empty password is nobody's")
	}
	if !d.Looks() {
		return a.direct(c.User, c.Password)
	}
	entry, err := a.find(c.User)
	if entry == nil || err != nil && source.KindOf(err) != source.Expired {
		return source.Person{}, err
	}
	if wrong := a.proves(entry.DN, c.Password); wrong != nil {
		return source.Person{}, source.About(wrong, entry.GetAttributeValue(d.own.LoginAttribute()))
	}
	if err != nil { // that it has expired is told to who knows it
		return source.Person{}, err
	}
	return a.person(entry, c.User)
}

// Look tells who somebody is, without their password.
func (d *Directory) Look(ctx context.Context, user string, step func(source.Asked)) (p source.Person, err error) {
	defer func() { d.Settled(err) }()
	if !d.Looks() {
		return source.Person{}, source.Fail(source.Mistaken, "source %s has no account by which people could be looked up", d.s.Name)
	}
	ctx, stop := context.WithTimeout(ctx, d.s.Patience())
	defer stop()
	a := &asking{d: d, ctx: ctx, told: step}
	defer a.close()
	if err := source.CheckUser(user); err != nil {
		return source.Person{}, err
	}
	entry, err := a.find(user)
	if err != nil {
		return source.Person{}, err
	}
	return a.person(entry, user)
}
