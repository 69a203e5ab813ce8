// Package remote asks servers that judge logins (RADIUS, RFC 2865) whether somebody may come in: by a password that was handed over, by an
// answer to a challenge (MS-CHAPv2), or by carrying on a conversation of EAP (RFC 3579). What follows from that is left to package people.
package remote

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"time"

	wire "layeh.com/radius"
	"layeh.com/radius/rfc2865"

	"yellowlantern/internal/core/legible"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/people/source"
	"yellowlantern/internal/radius"
)

// Bounds of what is asked and answered.
const (
	longestPassword = 128 // RFC 2865 §5.2
	longestReply    = 200
)

// Secrets gives what a source proves itself with.
type Secrets struct {
	Shared      func(ctx context.Context) (string, error)
	Certificate func(ctx context.Context) (*tls.Certificate, error) // by name in the plan; only asked where there is one
}

// Server asks them. It is safe for concurrent use.
type Server struct {
	s       plan.Source
	own     *plan.RADIUS
	secrets Secrets
	links   map[string]*radius.Link
	source.Standing
	dead source.Dead
	asks answering
}

var (
	_ source.Challenged = (*Server)(nil)
	_ source.Relayed    = (*Server)(nil)
)

// New is a source as a plan describes it. dial opens connections; nil: as the system does.
func New(s plan.Source, secrets Secrets, dial func(ctx context.Context, network, address string) (net.Conn, error)) (*Server, error) {
	r := &Server{s: s, own: s.RADIUS(), secrets: secrets, links: map[string]*radius.Link{}}
	var roots *x509.CertPool
	if s.Authority != "" {
		roots = x509.NewCertPool()
		if !roots.AppendCertsFromPEM([]byte(s.Authority)) {
			return nil, errors.New("its authority holds no certificate, PEM")
		}
	}
	for _, word := range slices.Concat(s.Servers, r.own.Accounting) {
		at, err := plan.ReadServer(plan.KindRADIUS, word)
		if err != nil {
			return nil, err
		}
		link := &radius.Link{Address: at.Address(), From: s.From, Dial: dial}
		if at.Scheme == plan.SchemeRADIUSTLS {
			link.TLS = &tls.Config{
				ServerName: at.Host, RootCAs: roots, MinVersion: tls.VersionTLS12,
				GetClientCertificate: func(*tls.CertificateRequestInfo) (*tls.Certificate, error) {
					if r.own.Certificate == "" || secrets.Certificate == nil {
						return &tls.Certificate{}, nil
					}
					return secrets.Certificate(context.Background())
				},
			}
		}
		r.links[word] = link
	}
	return r, nil
}

// Settings implements source.Source.
func (r *Server) Settings() plan.Source { return r.s }

// Looks implements source.Source: nobody is known there but at their own login.
func (r *Server) Looks() bool { return false }

// Look implements source.Source.
func (r *Server) Look(context.Context, string, func(source.Asked)) (source.Person, error) {
	return source.Person{}, source.Fail(source.Mistaken, "source %s cannot look people up: a RADIUS server judges logins alone", r.s.Name)
}

// Close implements source.Source.
func (r *Server) Close() {
	for _, l := range r.links {
		l.Close()
	}
}

// asking is one request, or several of one conversation.
type asking struct {
	r    *Server
	ctx  context.Context
	told func(source.Asked)
	only string // the server that the conversation is with; empty: any
}

func (a *asking) did(begun time.Time, err error, format string, args ...any) {
	if a.told == nil {
		return
	}
	words := fmt.Sprintf(format, args...)
	if err != nil {
		words += ": " + err.Error()
	}
	a.told(source.Asked{Words: words, OK: err == nil, Took: time.Since(begun)})
}

// request begins one about somebody.
func (r *Server) request(user string, from netip.Addr) *radius.Packet {
	p := wire.New(wire.CodeAccessRequest, nil)
	_ = rfc2865.UserName_SetString(p, user) // of 128 octets at most
	_ = rfc2865.NASIdentifier_SetString(p, r.own.Name())
	_ = rfc2865.NASPortType_Set(p, rfc2865.NASPortType_Value_Virtual)
	_ = rfc2865.ServiceType_Set(p, rfc2865.ServiceType_Value_FramedUser)
	if from.IsValid() {
		_ = rfc2865.CallingStationID_SetString(p, from.String())
	}
	return p
}

// ask asks the servers in order; each is waited for as long as leaves time for the others. fill adds what is made with the secret.
func (a *asking) ask(servers []string, p *radius.Packet, fill func(p *radius.Packet) error) (*radius.Packet, error) {
	shared, err := a.r.secrets.Shared(a.ctx)
	if err == nil && shared == "" {
		err = errors.New("it is empty")
	}
	if a.only != "" {
		servers = []string{a.only}
	}
	all := a.r.dead.Order(servers, time.Now())
	var last error
	for i, server := range all {
		link := a.r.links[server]
		if link.TLS == nil && err != nil {
			return nil, source.Fail(source.Account, "the secret %s of its servers: %v", a.r.s.Secret, err)
		}
		p.Secret = []byte(shared)
		if link.TLS != nil {
			p.Secret = []byte(radius.TLSSecret)
		}
		q := *p
		q.Attributes = slices.Clone(p.Attributes)
		if fill != nil {
			if err := fill(&q); err != nil {
				return nil, source.Fail(source.Mistaken, "%v", err)
			}
		}
		until, _ := a.ctx.Deadline()
		ctx, stop := context.WithDeadline(a.ctx, time.Now().Add(time.Until(until)/time.Duration(len(all)-i)))
		begun := time.Now()
		if a.told != nil && link.TLS != nil {
			a.shown(ctx, server, link)
		}
		answer, err := link.Exchange(ctx, &q)
		stop()
		a.r.dead.Note(server, err == nil, time.Now())
		if err == nil {
			a.did(begun, nil, "%s answers with %s", server, answer.Code)
			p.Authenticator, p.Identifier = q.Authenticator, q.Identifier // by which keys in the answer are read
			a.only = server
			return answer, nil
		}
		err = source.Plainly(err)
		a.did(begun, err, "%s is asked", server)
		last = fmt.Errorf("%s: %w", server, err)
		if errors.Is(err, radius.ErrForged) {
			return nil, source.Fail(source.Account, "%s answers, and its answer does not count: %v", server, err)
		}
		if a.ctx.Err() != nil {
			break
		}
	}
	if last == nil {
		last = errors.New("it names no server")
	}
	return nil, source.Fail(source.Away, "%v", last)
}

// shown tells which certificate a server has.
func (a *asking) shown(ctx context.Context, server string, link *radius.Link) {
	begun := time.Now()
	state, err := link.Connect(ctx)
	a.did(begun, source.Plainly(err), "%s is reached, and secured", server)
	if err == nil && len(state.PeerCertificates) > 0 {
		leaf := state.PeerCertificates[0]
		a.did(begun, nil, "its certificate is %q by %q, until %s", leaf.Subject.CommonName,
			leaf.Issuer.CommonName,
			leaf.NotAfter.Format(time.DateOnly))
	}
}

// Login implements source.Source: the password is handed over (PAP).
func (r *Server) Login(ctx context.Context, c source.Call, step func(source.Asked)) (who source.Person, err error) {
	defer func() { r.Settled(err) }()
	if err := source.CheckUser(c.User); err != nil {
		return who, err
	}
	if c.Password == "" || len(c.Password) > longestPassword {
		return who, source.Fail(source.Refused, "a password has 1 to %d octets there", longestPassword)
	}
	ctx, stop := context.WithTimeout(ctx, r.s.Patience())
	defer stop()
	a := &asking{r: r, ctx: ctx, told: step}
	answer, err := a.ask(r.s.Servers, r.request(c.User, c.From), func(p *radius.Packet) error {
		return rfc2865.UserPassword_SetString(p, c.Password)
	})
	if err != nil {
		return who, err
	}
	return a.judged(answer, c.User)
}

// judged is what an answer says of somebody.
func (a *asking) judged(answer *radius.Packet, user string) (source.Person, error) {
	switch answer.Code {
	case wire.CodeAccessAccept:
		return a.accepted(answer, user)
	case wire.CodeAccessReject:
		return source.Person{}, refusal(answer)
	case wire.CodeAccessChallenge:
		return source.Person{}, source.Fail(source.Barred, "the server asks for more than a password%s", said(answer))
	}
	return source.Person{}, source.Fail(source.Away, "the server answers with %s", answer.Code)
}

// said is what a server has people told, as far as it can be shown.
func said(answer *radius.Packet) string {
	text, _ := rfc2865.ReplyMessage_GetStrings(answer)
	if len(text) == 0 || text[0] == "" {
		return ""
	}
	words := text[0]
	if len(words) > longestReply {
		words = words[:longestReply]
	}
	return fmt.Sprintf(" (%s)", legible.Escape(words))
}

// Probe implements source.Source. A server that never answered Status-Server (RFC 5997) may not know it: its silence tells nothing.
func (r *Server) Probe(ctx context.Context) {
	ctx, stop := context.WithTimeout(ctx, r.s.Patience())
	defer stop()
	a := &asking{r: r, ctx: ctx}
	p := wire.New(wire.CodeStatusServer, nil)
	_ = rfc2865.NASIdentifier_SetString(p, r.own.Name())
	_, err := a.ask(r.s.Servers, p, nil)
	if err == nil {
		r.asks.did()
	}
	if err == nil || r.asks.before() || source.KindOf(err) != source.Away {
		r.Settled(err)
	}
}

// accepted is who came in.
func (a *asking) accepted(answer *radius.Packet, user string) (source.Person, error) {
	who := source.Person{Login: user, Limits: limits(answer)}
	if name := rfc2865.UserName_GetString(answer); name != "" { // who they really are (RFC 2865 §5.1)
		who.Login = name
	}
	if err := source.CheckUser(who.Login); err != nil {
		return who, source.Fail(source.Mistaken, "the server names nobody who can be one (User-Name)")
	}
	who.Name = who.Login
	who.Class, _ = rfc2865.Class_Gets(answer)
	who.Groups = groupsOf(answer, a.r.own)
	a.did(time.Now(), nil, "groups: %d, told by %s", len(who.Groups),
		map[bool]string{
			true:  "Class",
			false: "Filter-Id",
		}[a.r.own.GroupsFrom == plan.GroupsClass])
	if l := who.Limits; l.Longest > 0 || l.Idle > 0 || len(l.Addresses) > 0 {
		a.did(time.Now(), nil, "limits: %s", words(l))
	}
	return who, nil
}

// groupsOf are those that a packet names.
func groupsOf(p *radius.Packet, own *plan.RADIUS) (out []source.Group) {
	names, _ := rfc2865.FilterID_Gets(p)
	if own.GroupsFrom == plan.GroupsClass {
		names, _ = rfc2865.Class_Gets(p)
	}
	for _, name := range names {
		if legible.Find(string(name), "") < 0 && len(name) > 0 {
			out = append(out, source.Group{Name: string(name)})
		}
	}
	return out
}

func words(l login.Limits) string {
	out := ""
	for _, a := range l.Addresses {
		out += ", address " + a.String()
	}
	if l.Longest > 0 {
		out += ", session ends after " + l.Longest.String()
	}
	if l.Idle > 0 {
		out += ", or " + l.Idle.String() + " without a packet"
	}
	return out[2:]
}
