// Package directory asks a directory (LDAP, RFC 4511) who somebody is, whether their password is right, and which groups they are in. What
// follows from that is left to package people.
package directory

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"
	"unicode/utf8"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"

	"yellowlantern/internal/core/plan"
)

// Bounds of what is asked and answered.
const (
	longestUser = 128
	mostGroups  = 2000
	mostAnswer  = 4 << 20 // octets of one message
	mostIdle    = 4       // connections that are kept bound as the account
	deadFor     = 30 * time.Second
	deepest     = 32 // levels of groups of groups
)

// A message that claims to be longer is not read: the package's own bound is two gigaoctets.
func init() { ber.MaxPacketLengthBytes = mostAnswer }

// Person is who somebody is there.
type Person struct {
	DN       string
	Login    string // what they log in with, as it is written there
	FullName string
	Mail     string
	Groups   []Group
}

// Group is one of the directory's.
type Group struct {
	DN   string
	Name string // its common name
}

// Kind is why somebody does not come in.
type Kind int

// Kinds of errors.
const (
	Away     Kind = iota // no server answers as it should
	Account              // the service's own account is refused
	Unknown              // nobody of that name
	Several              // more than one
	Wrong                // the password is wrong
	Barred               // the person is, there: switched off, locked, over
	Mistaken             // what the plan says makes no sense to it
)

// Error is why.
type Error struct {
	Kind  Kind
	Words string
}

// Error implements error.
func (e *Error) Error() string { return e.Words }

func fail(k Kind, format string, args ...any) error { return &Error{k, fmt.Sprintf(format, args...)} }

// KindOf is an error's; of others it is Away.
func KindOf(err error) Kind {
	var e *Error
	if errors.As(err, &e) {
		return e.Kind
	}
	return Away
}

// Asked is one thing that was done, for whoever tries it.
type Asked struct {
	Words string        `json:"words"`
	OK    bool          `json:"ok"`
	Took  time.Duration `json:"took-ns"`
}

// Directory asks one. It is safe for concurrent use.
type Directory struct {
	s      plan.Source
	secret func(ctx context.Context) (string, error)
	// Dial opens connections; nil: as the system does.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)

	roots *x509.CertPool
	mu    sync.Mutex
	idle  []*ldap.Conn
	dead  map[string]time.Time // servers that did not answer, and until when they are asked last
	state State
}

// State is what a directory said last.
type State struct {
	At    time.Time // zero: it was not asked yet
	Error string    // that it could not be asked at all; empty: it could
	Since time.Time // of the error
}

// State is what it said last.
func (d *Directory) State() State {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.state
}

// settled notes what came of asking it: that somebody is not there, or has a wrong password, is an answer.
func (d *Directory) settled(err error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.state.At = time.Now()
	if kind := KindOf(err); err == nil || kind != Away && kind != Account && kind != Mistaken {
		d.state.Error = ""
		return
	}
	if d.state.Error == "" {
		d.state.Since = d.state.At
	}
	d.state.Error = err.Error()
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
		d.settled(err)
		return
	}
	_, err := a.find("no-such-person")
	d.settled(err)
}

// New is a directory as a plan describes it; secret gives the account's password.
func New(s plan.Source, secret func(ctx context.Context) (string, error)) (*Directory, error) {
	d := &Directory{s: s, secret: secret, dead: map[string]time.Time{}}
	if s.Authority != "" {
		d.roots = x509.NewCertPool()
		if !d.roots.AppendCertsFromPEM([]byte(s.Authority)) {
			return nil, errors.New("its authority holds no certificate, PEM")
		}
	}
	if s.Filter != "" {
		if _, err := ldap.CompileFilter(s.Filter); err != nil {
			return nil, fmt.Errorf("its filter %s cannot be read", s.Filter)
		}
	}
	for _, server := range s.Servers {
		if err := plan.CheckServer(server); err != nil {
			return nil, err
		}
	}
	return d, nil
}

// Source is what the plan says of it.
func (d *Directory) Source() plan.Source { return d.s }

// Looks tells whether people can be looked up without their password.
func (d *Directory) Looks() bool { return d.s.Account != "" }

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
func (d *Directory) Login(ctx context.Context, user, password string, step func(Asked)) (p Person, err error) {
	defer func() { d.settled(err) }()
	ctx, stop := context.WithTimeout(ctx, d.s.Patience())
	defer stop()
	a := &asking{d: d, ctx: ctx, told: step}
	defer a.close()
	if err := checkUser(user); err != nil {
		return Person{}, err
	}
	if password == "" { // a bind without a password is one as nobody, and succeeds (RFC 4513 §5.1.2)
		return Person{}, fail(Wrong, "an empty password is nobody's")
	}
	if !d.Looks() {
		return a.direct(user, password)
	}
	entry, err := a.find(user)
	if err != nil {
		return Person{}, err
	}
	if err := a.proves(entry.DN, password); err != nil {
		return Person{}, err
	}
	return a.person(entry, user)
}

// Look tells who somebody is, without their password.
func (d *Directory) Look(ctx context.Context, user string, step func(Asked)) (p Person, err error) {
	defer func() { d.settled(err) }()
	if !d.Looks() {
		return Person{}, fail(Mistaken, "source %s has no account by which people could be looked up", d.s.Name)
	}
	ctx, stop := context.WithTimeout(ctx, d.s.Patience())
	defer stop()
	a := &asking{d: d, ctx: ctx, told: step}
	defer a.close()
	if err := checkUser(user); err != nil {
		return Person{}, err
	}
	entry, err := a.find(user)
	if err != nil {
		return Person{}, err
	}
	return a.person(entry, user)
}

func checkUser(user string) error {
	if user == "" || len(user) > longestUser || !utf8.ValidString(user) || strings.ContainsFunc(user, unicode.IsControl) {
		return fail(Unknown, "that is no name of anybody")
	}
	return nil
}

// Taken are the plan's groups that somebody is in by a source's.
func Taken(s plan.Source, have []Group, known []string) (out []string) {
	take := func(name string) {
		if i := slices.IndexFunc(known, func(k string) bool { return strings.EqualFold(k, name) }); i >= 0 {
			out = append(out, known[i])
		}
	}
	for _, g := range have {
		if len(s.Groups) == 0 {
			take(g.Name)
		}
		for _, m := range s.Groups {
			switch {
			case !matches(m.From, g):
			case m.To == "":
				take(star(m.From, g.Name))
			default:
				take(m.To)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

func matches(from string, g Group) bool {
	if want, err := ldap.ParseDN(from); err == nil && strings.Contains(from, "=") {
		have, err := ldap.ParseDN(g.DN)
		return err == nil && want.EqualFold(have)
	}
	before, after, starred := strings.Cut(strings.ToLower(from), "*")
	name := strings.ToLower(g.Name)
	if !starred {
		return name == before
	}
	return len(name) >= len(before)+len(after) && strings.HasPrefix(name, before) && strings.HasSuffix(name, after)
}

// star is what * stands for; of a name without one it is the whole name.
func star(from, name string) string {
	before, after, starred := strings.Cut(from, "*")
	if !starred || len(name) < len(before)+len(after) {
		return name
	}
	return name[len(before) : len(name)-len(after)]
}
