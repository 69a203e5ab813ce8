// Package mailing sends people what they are told by mail, by the server that the plan names: who is told what, and when, is left to
// others.
package mailing

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/url"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/wneessen/go-mail"

	"yellowlantern/internal/app/journal"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/store"
)

// patience is for how long a message may take: somebody waits for it.
const patience = 10 * time.Second

// Service sends.
type Service struct {
	Store   *store.Store
	Journal *journal.Service
	Log     *slog.Logger
	// Plan is what runs; nil: nothing does.
	Plan func() *plan.Plan

	problem atomic.Pointer[string]
}

// ErrNone is where the plan names no server.
var ErrNone = errors.New("the plan names no mail server")

// Problem is why the newest message did not go; empty: it went, or there was none.
func (s *Service) Problem() string {
	if p := s.problem.Load(); p != nil {
		return *p
	}
	return ""
}

// CodesByMail tells whether the plan that runs lets people have codes by mail.
func (s *Service) CodesByMail() bool {
	p := s.Plan()
	return p != nil && p.CodesByMail && p.MailServer != ""
}

// PasswordHelp tells whether it lets those who forgot their password have a link by mail.
func (s *Service) PasswordHelp() bool {
	p := s.Plan()
	return p != nil && p.PasswordHelp && p.MailServer != ""
}

// Site is what the plan is called.
func (s *Service) Site() string {
	if p := s.Plan(); p != nil {
		return p.Name
	}
	return ""
}

// Send sends a message. That one did not go is journalled, once until one goes again.
func (s *Service) Send(ctx context.Context, to, subject, text string) error {
	ctx, stop := context.WithTimeout(ctx, patience)
	defer stop()
	p := s.Plan()
	if p == nil || p.MailServer == "" {
		return ErrNone
	}
	err := s.send(ctx, p, to, subject, text)
	if err == nil {
		s.problem.Store(nil)
		return nil
	}
	words := err.Error()
	if was := s.problem.Swap(&words); was == nil {
		s.Journal.Tell(reason.Of(reason.MailFails, reason.With{reason.Name: p.MailServer, reason.Error: words}), "")
	}
	return err
}

func (s *Service) send(ctx context.Context, p *plan.Plan, to, subject, text string) error {
	host, port, whole, err := Server(p.MailServer)
	if err != nil {
		return err
	}
	conf := &tls.Config{MinVersion: tls.VersionTLS12, ServerName: host}
	if p.MailCA != "" {
		if conf.RootCAs = x509.NewCertPool(); !conf.RootCAs.AppendCertsFromPEM([]byte(p.MailCA)) {
			return errors.New("mail-authority holds no certificate")
		}
	}
	// What it opens is closed here: the client leaves a connection open where a server will not go on as it should.
	var opened net.Conn
	defer func() {
		if opened != nil {
			_ = opened.Close()
		}
	}()
	dial := (&net.Dialer{}).DialContext
	if whole {
		dial = (&tls.Dialer{Config: conf}).DialContext
	}
	options := []mail.Option{
		mail.WithDialContextFunc(func(ctx context.Context, network, address string) (c net.Conn, err error) {
			opened, err = dial(ctx, network, address)
			return opened, err
		}),
		mail.WithPort(port), mail.WithTimeout(patience), mail.WithTLSConfig(conf),
		mail.WithTLSPolicy(mail.TLSMandatory),
	}
	if whole {
		options = append(options, mail.WithSSL())
	}
	if p.MailAccount != "" {
		secret, err := s.Store.Shared(ctx, p.MailSecret)
		if err != nil {
			return fmt.Errorf("the secret %q of the mail account: %w", p.MailSecret, err)
		}
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthPlain), mail.WithUsername(p.MailAccount),
			mail.WithPassword(string(secret)))
	}
	c, err := mail.NewClient(host, options...)
	if err != nil {
		return err
	}
	m := mail.NewMsg()
	if err := m.From(p.MailFrom); err != nil {
		return fmt.Errorf("mail-from: %w", err)
	}
	if err := m.To(to); err != nil {
		return fmt.Errorf("the address of whom it is for: %w", err)
	}
	m.SetUserAgent("Yellow Lantern")
	_, domain, _ := strings.Cut(p.MailFrom, "@") // the machine's own name is nobody's business
	m.SetMessageIDWithValue(strings.ToLower(rand.Text()) + "@" + domain)
	m.Subject(subject)
	m.SetBodyString(mail.TypeTextPlain, text)
	return c.DialAndSendWithContext(ctx, m)
}

// Server reads where a mail server is: smtps://HOST[:465], or smtp://HOST[:587] with STARTTLS. In clear nothing is sent.
func Server(text string) (host string, port int, whole bool, err error) {
	u, err := url.Parse(text)
	if err != nil || u.Hostname() == "" || u.User != nil || strings.Trim(u.Path, "/") != "" || u.Scheme != "smtps" && u.Scheme != "smtp" {
		return "", 0, false, errors.New("a mail server is written as smtps://mail.tern.example, or smtp://mail.tern.example with STARTTLS")
	}
	port = map[string]int{"smtps": 465, "smtp": 587}[u.Scheme]
	if u.Port() != "" {
		if port, err = strconv.Atoi(u.Port()); err != nil {
			return "", 0, false, err
		}
	}
	return u.Hostname(), port, u.Scheme == "smtps", nil
}
