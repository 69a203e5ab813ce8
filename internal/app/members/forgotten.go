package members

import (
	"context"
	"net/netip"
	"strings"
	"sync"
	"time"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/core/crowd"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/store"
)

// ForgottenPath is the page on which somebody who forgot their password asks for a link.
const ForgottenPath = "/forgotten"

const (
	helpLasts = time.Hour       // a link that was sent
	helpEvery = 5 * time.Minute // for one name, and from one source
	mostHelp  = 10_000          // names and sources that are remembered
)

// Mailer sends people mail.
type Mailer interface {
	PasswordHelp() bool
	Site() string
	Send(ctx context.Context, to, subject, text string) error
}

// helped are names and sources for which help was asked lately.
type helped struct {
	mu sync.Mutex
	at map[string]time.Time
}

// HelpsByMail tells whether the plan lets people who forgot their password have a link by mail.
func (s *Service) HelpsByMail() bool { return s.Mail != nil && s.Mail.PasswordHelp() && s.At() != "" }

// Forgotten sends a link by which somebody chooses another password to their mail address, if they are one of the service's own, and have
// one. Whoever asks learns nothing of that: it is done afterwards, whatever comes of it.
func (s *Service) Forgotten(name string, from netip.Addr) {
	name = strings.TrimSpace(name)
	if !s.HelpsByMail() || !s.helped.may(name, from, time.Now()) {
		return
	}
	s.Background(func(ctx context.Context) {
		u, err := s.People.User(ctx, name)
		if err != nil || u.Mail == "" || !u.Bar(time.Now()).None() {
			return
		}
		link, err := s.PasswordLink(actor.With(ctx, actor.Actor{Name: store.ByPage}), name, helpLasts)
		if err != nil {
			return
		}
		text := "Somebody asked for another password for your connection to " + s.Mail.Site() + ", perhaps you. Choose one here, once, within an hour:\n\n" +
			link.URL + "\n\nIf it was not you, do nothing: your password stays as it is.\n"
		if s.Mail.Send(ctx, u.Mail, "Another password for "+s.Mail.Site(), text) == nil {
			s.Journal.Tell(reason.Of(reason.PasswordHelped, reason.With{reason.Source: from.String()}), name)
		}
	})
}

// may notes that a name was asked for from a source, and tells whether that is not too often.
func (h *helped) may(name string, from netip.Addr, now time.Time) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.at == nil {
		h.at = map[string]time.Time{}
	}
	for key, at := range h.at {
		if now.Sub(at) >= helpEvery {
			delete(h.at, key)
		}
	}
	keys := []string{"name " + name, "source " + crowd.Source(from).String()}
	for _, key := range keys {
		if _, lately := h.at[key]; lately || len(h.at) >= mostHelp {
			return false
		}
	}
	for _, key := range keys {
		h.at[key] = now
	}
	return true
}
