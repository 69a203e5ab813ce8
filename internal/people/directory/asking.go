package directory

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/people/source"
)

// asking is one login, or one look.
type asking struct {
	d      *Directory
	ctx    context.Context
	told   func(source.Asked)
	lookup *ldap.Conn // bound as the account
	server string     // that it is at
	used   bool       // it came from those that are kept, and may be dead
	corp   *bool      // it is a corporate directory; nil: not asked yet
}

// did tells what was done.
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

func (a *asking) close() {
	if a.lookup == nil {
		return
	}
	d := a.d
	d.mu.Lock()
	defer d.mu.Unlock()
	if a.ctx.Err() == nil && len(d.idle) < mostIdle && !a.lookup.IsClosing() {
		d.idle = append(d.idle, a.lookup)
		return
	}
	_ = a.lookup.Close()
}

// connect opens a connection that is secured, to the first server that answers. Each is waited for as long as leaves time for the others.
func (a *asking) connect() (*ldap.Conn, string, error) {
	all := a.d.dead.Order(a.d.s.Servers, time.Now())
	var last error
	for i, server := range all {
		until, _ := a.ctx.Deadline()
		begun := time.Now()
		c, err := a.open(server, time.Until(until)/time.Duration(len(all)-i))
		a.did(begun, err, "%s is reached, and secured", server)
		a.d.dead.Note(server, err == nil, time.Now())
		if err == nil {
			a.shown(c)
			return c, server, nil
		}
		last = fmt.Errorf("%s: %w", server, err)
		if a.ctx.Err() != nil {
			break
		}
	}
	if last == nil {
		last = errors.New("it names no server")
	}
	return nil, "", source.Fail(source.Away, "%v", last)
}

// shown tells which certificate a server has.
func (a *asking) shown(c *ldap.Conn) {
	if state, ok := c.TLSConnectionState(); ok && len(state.PeerCertificates) > 0 {
		leaf := state.PeerCertificates[0]
		a.did(time.Now(), nil, "its certificate is %q by %q, until %s", leaf.Subject.CommonName, leaf.Issuer.CommonName,
			leaf.NotAfter.Format(time.DateOnly))
	}
}

func (a *asking) open(server string, patience time.Duration) (*ldap.Conn, error) {
	if patience <= 0 {
		return nil, errors.New("no time is left to wait for it")
	}
	at, err := plan.ReadServer(plan.KindLDAP, server)
	if err != nil {
		return nil, err
	}
	ctx, stop := context.WithTimeout(a.ctx, patience)
	defer stop()
	dial := a.d.Dial
	if dial == nil {
		d := &net.Dialer{}
		if own := a.d.s.From; own.IsValid() {
			d.LocalAddr = net.TCPAddrFromAddrPort(netip.AddrPortFrom(own, 0))
		}
		dial = d.DialContext
	}
	raw, err := dial(ctx, "tcp", at.Address())
	if err != nil {
		return nil, source.Plainly(err)
	}
	_ = raw.SetDeadline(time.Now().Add(patience))
	conf := &tls.Config{ServerName: at.Host, RootCAs: a.d.roots, MinVersion: tls.VersionTLS12}
	var c *ldap.Conn
	if at.Scheme == "ldaps" {
		secured := tls.Client(raw, conf)
		if err := secured.HandshakeContext(ctx); err != nil {
			_ = raw.Close()
			return nil, source.Plainly(err)
		}
		raw = secured
		c = ldap.NewConn(raw, true)
		c.Start()
	} else {
		c = ldap.NewConn(raw, false)
		c.Start()
		c.SetTimeout(patience)
		if err := c.StartTLS(conf); err != nil {
			_ = c.Close()
			return nil, source.Plainly(err)
		}
	}
	_ = raw.SetDeadline(time.Time{})
	return c, nil
}

// within bounds what is asked of a connection next by the time that is left.
func (a *asking) within(c *ldap.Conn) {
	until, _ := a.ctx.Deadline()
	c.SetTimeout(max(time.Until(until), time.Millisecond))
}

// bound gives a connection that is bound as the account.
func (a *asking) bound() (*ldap.Conn, error) {
	if a.lookup != nil {
		return a.lookup, nil
	}
	d := a.d
	if a.told == nil { // who tries it wants to see it done
		d.mu.Lock()
		for len(d.idle) > 0 && a.lookup == nil {
			c := d.idle[len(d.idle)-1]
			d.idle = d.idle[:len(d.idle)-1]
			if !c.IsClosing() {
				a.lookup, a.used = c, true
			}
		}
		d.mu.Unlock()
		if a.lookup != nil {
			return a.lookup, nil
		}
	}
	return a.fresh()
}

func (a *asking) fresh() (*ldap.Conn, error) {
	c, server, err := a.connect()
	if err != nil {
		return nil, err
	}
	secret, err := a.d.secret(a.ctx)
	if err != nil {
		_ = c.Close()
		return nil, source.Fail(source.Account, "the secret %s of its account: %v", a.d.s.Secret, err)
	}
	if secret == "" {
		_ = c.Close()
		return nil, source.Fail(source.Account, "the secret %s of its account is empty", a.d.s.Secret)
	}
	begun := time.Now()
	a.within(c)
	err = c.Bind(a.d.own.Account, secret)
	a.did(begun, said(err), "bound as %s", a.d.own.Account)
	switch {
	case ldap.IsErrorWithCode(err, ldap.LDAPResultInvalidCredentials), ldap.IsErrorWithCode(err,
		ldap.LDAPResultInappropriateAuthentication),
		ldap.IsErrorWithCode(err, ldap.LDAPResultInvalidDNSyntax), ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject):
		_ = c.Close()
		return nil, source.Fail(source.Account, "%s refuses the account %s: %v", server, a.d.own.Account, said(err))
	case err != nil:
		_ = c.Close()
		return nil, source.Fail(source.Away, "%s: %v", server, said(err))
	}
	a.lookup, a.server, a.used = c, server, false
	return c, nil
}

// said is a server's error in words: the name of its code, and what a person can use of its text.
func said(err error) error {
	var e *ldap.Error
	if !errors.As(err, &e) {
		return err
	}
	if e.ResultCode >= ldap.ErrorNetwork {
		if e.Err != nil {
			return source.Plainly(e.Err)
		}
		return errors.New("the connection failed")
	}
	return errors.New(strings.ToLower(ldap.LDAPResultCodeMap[e.ResultCode]))
}

// search searches by the account's connection; one that was kept and turns out to be dead is opened anew, once.
func (a *asking) search(r *ldap.SearchRequest) (*ldap.SearchResult, error) {
	for {
		c, err := a.bound()
		if err != nil {
			return nil, err
		}
		out, err := a.searchOn(c, r)
		var e *ldap.Error
		if err != nil && a.used && (!errors.As(err, &e) || e.ResultCode >= ldap.ErrorNetwork) {
			_ = c.Close()
			a.lookup = nil
			if _, err := a.fresh(); err != nil {
				return nil, err
			}
			continue
		}
		return out, err
	}
}

func (a *asking) searchOn(c *ldap.Conn, r *ldap.SearchRequest) (*ldap.SearchResult, error) {
	a.within(c)
	until, _ := a.ctx.Deadline()
	r.TimeLimit = max(1, int(time.Until(until).Seconds()))
	return c.Search(r)
}
